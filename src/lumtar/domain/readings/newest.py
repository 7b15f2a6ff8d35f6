"""The newest state of interfaces: what the next poll is compared with, and what lists show."""

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.counters import COUNTERS
from lumtar.core.ledger import Observation, State
from lumtar.core.measures.rates import per_second
from lumtar.domain.readings import bulk

CARRIED = {
    "uptime": "i8", "discontinuity": "i8", "port_bps": "i8", "oper": "i2", "admin": "i2", "holds": "i2", "excess": "i2",
    "moved": "?", "present": "?", "wide": "?",
}  # fmt: skip
"""What the ledger goes on from, as it names it: columns and their types."""
SHOWN = ("in_bps", "out_bps", "in_percent", "out_percent", "error_rate")
"""Rates, NULL where there are none."""
NAMES = ("at", "base_at", "since", "counters", "flags", *CARRIED, *SHOWN)


def _renewed(name: str) -> str:
    """What a column is after a poll: a held reading keeps the rates that it could not renew, an unchanged state its time."""
    if name in SHOWN:
        return f"{name} = CASE WHEN s.rated THEN NULLIF(s.{name}, 'NaN') ELSE n.{name} END"
    if name == "since":
        return "since = CASE WHEN n.oper = s.oper AND n.admin = s.admin THEN n.since ELSE s.at END"
    return f"{name} = s.{name}"


RENEWED = ", ".join(map(_renewed, NAMES))
INSERTED = ", ".join(f"NULLIF(s.{name}, 'NaN')" if name in SHOWN else f"s.{name}" for name in NAMES)


def renew(interfaces: NDArray[np.int64], seen: Observation, state: State) -> None:
    """Write the newest state of these interfaces; ``state`` is the ledger's excerpt after it had seen them."""
    rates = {name: getattr(seen, name) for name in SHOWN[:4]}
    rates["error_rate"] = per_second(seen.counted.deltas[:, 8:].sum(axis=1), seen.counted.elapsed_ms)
    with connection.cursor() as cursor:
        cursor.execute(
            "CREATE TEMP TABLE IF NOT EXISTS newest_block (LIKE readings_newest, rated boolean) ON COMMIT DELETE ROWS"
        )
        cursor.execute("TRUNCATE newest_block")
    bulk.copy(
        "newest_block",
        [
            ("interface_id", "i8", interfaces),
            ("at", "at", seen.at),
            ("base_at", "at", state.at),
            ("since", "at", seen.at),
            ("counters", "i8", state.counters.view(np.int64)),
            ("flags", "i2", seen.counted.flags),
            *((name, kind, getattr(state, name)) for name, kind in CARRIED.items()),
            *((name, "f8", values) for name, values in rates.items()),
            ("rated", "?", seen.rated),
        ],
    )
    with connection.cursor() as cursor:
        # Updating what is there and inserting the rest is several times cheaper than one upsert.
        cursor.execute(
            f"UPDATE readings_newest n SET {RENEWED} FROM newest_block s WHERE n.interface_id = s.interface_id"
        )
        if cursor.rowcount < len(interfaces):
            cursor.execute(
                f"INSERT INTO readings_newest (interface_id, {', '.join(NAMES)}) SELECT s.interface_id, {INSERTED}"
                " FROM newest_block s WHERE EXISTS (SELECT 1 FROM inventory_interface i WHERE i.id = s.interface_id)"
                " ON CONFLICT (interface_id) DO NOTHING"
            )


def load(state: State, slot_of: dict[int, int]) -> dict[int, float]:
    """Fill the ledger's state of some interfaces; their last times in seconds of the epoch, of those that are known.

    Parameters
    ----------
    slot_of : interface -> slot
    """
    with connection.cursor() as cursor:
        cursor.execute(
            f"SELECT interface_id, extract(epoch FROM base_at)::float8, extract(epoch FROM at)::float8, counters,"
            f" {', '.join(CARRIED)} FROM readings_newest WHERE interface_id = ANY(%s) AND counters IS NOT NULL",
            [list(slot_of)],
        )
        rows = cursor.fetchall()
    if not rows:
        return {}
    ids, base_at, at, counters, *carried = zip(*rows, strict=True)
    slots = np.array([slot_of[pk] for pk in ids])
    state.at[slots] = base_at
    state.counters[slots] = np.array(counters, np.int64).reshape(-1, len(COUNTERS)).view(np.uint64)
    for name, values in zip(CARRIED, carried, strict=True):
        getattr(state, name)[slots] = values
    state.seen[slots] = True
    return dict(zip(ids, at, strict=True))
