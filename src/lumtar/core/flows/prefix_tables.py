"""Tables by prefix that people bring along: autonomous systems, and places.

CSV with a first line of names: ``prefix,number,name`` for autonomous systems, ``prefix,place,country,latitude,longitude`` for places. The
longest prefix that an address is in tells.
"""

import csv
import ipaddress
from dataclasses import dataclass
from io import StringIO

from lumtar.core.flows.lookups import Prefixes
from lumtar.core.refusal import Refusal

MOST_ROWS = 600_000
"""A full table of the Internet has about a million prefixes; those that somebody talks to are far fewer."""
SYSTEMS, PLACES = ("prefix", "number", "name"), ("prefix", "place", "country", "latitude", "longitude")
MOST_AS = 2**32 - 1


@dataclass(frozen=True, slots=True)
class System:
    """An autonomous system (RFC 1930)."""

    number: int
    name: str

    def __str__(self) -> str:
        return f"AS{self.number} {self.name}".strip()


@dataclass(frozen=True, slots=True)
class Place:
    """A place; latitude and longitude in degrees, None if they are not told."""

    name: str
    country: str
    latitude: float | None
    longitude: float | None

    def __str__(self) -> str:
        return self.name

    @property
    def where(self) -> tuple[float, float] | None:
        """Latitude and longitude."""
        return None if self.latitude is None or self.longitude is None else (self.latitude, self.longitude)


@dataclass(frozen=True)
class PrefixInfo:
    """What prefixes tell: entries, and for addresses the number of their entry, from 1 on."""

    prefixes: Prefixes
    entries: tuple[System | Place, ...]
    rows: int


def read(text: str, columns: tuple[str, ...]) -> PrefixInfo:
    """A table from its text.

    Raises
    ------
    Refusal
        with the line that cannot be understood
    """
    lines = csv.DictReader(StringIO(text.lstrip("\ufeff")))
    named = [name.strip().lower() for name in lines.fieldnames or ()]
    if missing := [name for name in columns[:2] if name not in named]:
        raise Refusal(f"The first line has to name the columns {', '.join(columns)}; {missing[0]} is missing.", "text")
    lines.fieldnames = named
    numbers: dict[System | Place, int] = {}
    prefixes: dict[str, int] = {}
    for place, row in enumerate(lines, 2):
        if place > MOST_ROWS:
            raise Refusal(f"A table has at most {MOST_ROWS:,} prefixes.", "text")
        try:
            network = str(ipaddress.ip_network((row["prefix"] or "").strip(), strict=False))
            entry = _system(row) if columns is SYSTEMS else _place(row)
        except ValueError as error:
            raise Refusal(f"Line {place} cannot be understood: {error}.", "text") from error
        prefixes[network] = numbers.setdefault(entry, len(numbers) + 1)
    if not prefixes:
        raise Refusal("There is no line with a prefix.", "text")
    return PrefixInfo(Prefixes.of(prefixes), tuple(numbers), len(prefixes))


def _system(row: dict[str, str | None]) -> System:
    text = (row["number"] or "").strip().upper().removeprefix("AS")
    if not text.isdecimal() or not 0 < int(text) <= MOST_AS:
        raise ValueError(f"{(row['number'] or '')[:40]!r} is no number of an autonomous system")
    return System(int(text), _text(row, "name"))


def _place(row: dict[str, str | None]) -> Place:
    name = _text(row, "place")
    if not name:
        raise ValueError("it has no place")
    latitude, longitude = _degrees(row, "latitude", 90), _degrees(row, "longitude", 180)
    if (latitude is None) != (longitude is None):
        raise ValueError("latitude and longitude belong together")
    return Place(name, _text(row, "country"), latitude, longitude)


def _text(row: dict[str, str | None], name: str) -> str:
    return " ".join((row.get(name) or "").split())[:80]


def _degrees(row: dict[str, str | None], name: str, most: float) -> float | None:
    text = (row.get(name) or "").strip()
    if not text:
        return None
    value = float(text)
    if not -most <= value <= most:
        raise ValueError(f"a {name} is at most {most} degrees")
    return value
