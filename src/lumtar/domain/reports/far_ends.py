"""Traffic by what is known of whoever is elsewhere: autonomous systems, countries and places, by tables that people loaded."""

from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from lumtar.core.flows.prefix_tables import Place, System
from lumtar.domain.flows import queries
from lumtar.domain.flows.asking import Asked
from lumtar.domain.flows.prefix_tables import FILTERS, key_of, table_of
from lumtar.domain.flows.queries import FAR_END, INSIDE, MOST_ROWS, Traffic
from lumtar.domain.reports.traffic import Named


@dataclass(frozen=True, slots=True)
class FarTraffic:
    """Traffic, what its rows are called, and where they are, as far as the table says: latitude and longitude."""

    traffic: Traffic
    names: list[Named]
    places: list[tuple[float, float] | None]


def read(asked: Asked, by: str, start: datetime, end: datetime, limit: int) -> FarTraffic:
    """Traffic by one of TABLES.

    Raises
    ------
    Refusal
    """
    table = table_of(by)
    keys = sorted({key_of(by, entry) for entry in table.entries})
    number = {key: place for place, key in enumerate(keys, 1)}
    # Entries are numbered from 1 on; what is in no prefix is 0.
    of_entry = np.array([0, *(number[key_of(by, entry)] for entry in table.entries)], "i8")
    found = queries.read_far(asked, lambda hi, lo: of_entry[table.prefixes.find(hi, lo)], start, end, limit)
    first: dict[str, System | Place] = {}
    for entry in table.entries:
        first.setdefault(key_of(by, entry), entry)
    entries = [first[keys[row.key[1] - 1]] if row.key[0] == FAR_END and row.key[1] else None for row in found.rows]
    return FarTraffic(
        found,
        [_named(by, row.key[0], entry) for row, entry in zip(found.rows, entries, strict=True)],
        [entry.where if isinstance(entry, Place) and by == "place" else None for entry in entries],
    )


def _named(by: str, kind: int, entry: System | Place | None) -> Named:
    if entry is None:
        words = {FAR_END: "in no prefix of the table", INSIDE: "between our sites"}
        return Named(words.get(kind, "smaller ones together"), "", {})
    key = key_of(by, entry)
    if isinstance(entry, System):
        return Named(f"AS{entry.number}", entry.name, {FILTERS[by]: key})
    return Named(key or "no country", entry.country if by == "place" else "", {FILTERS[by]: key} if key else {})


def before(asked: Asked, by: str, traffic: Traffic, earlier: timedelta) -> dict[tuple[int, ...], int]:
    """What the same keys had so much earlier."""
    then = read(asked, by, traffic.start - earlier, traffic.end - earlier, MOST_ROWS)
    return {row.key: row.octets for row in then.traffic.rows}
