"""Storing readings and the newest state. Every function runs in its caller's transaction."""

from collections.abc import Sequence
from uuid import UUID

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.counters import IN_UNICAST, OUT_UNICAST
from lumtar.core.ledger import Observation, State
from lumtar.domain.readings import bulk, rollups

NEWEST = [
    "at",
    "base_at",
    "since",
    "uptime",
    "discontinuity",
    "port_bps",
    "counters",
    "in_bps",
    "out_bps",
    "in_percent",
    "out_percent",
    "error_rate",
    "flags",
    "oper",
    "admin",
    "holds",
    "moved",
    "present",
    "wide",
]
NULLABLE = {"in_bps", "out_bps", "in_percent", "out_percent", "error_rate"}
# A held reading keeps the rates that it could not renew, and an unchanged state keeps the time it began.
ASSIGNMENTS = ", ".join(
    f"{name} = CASE WHEN s.rated THEN {value} ELSE n.{name} END"
    if name in NULLABLE
    else (
        "since = CASE WHEN n.oper = s.oper AND n.admin = s.admin THEN n.since ELSE s.at END"
        if name == "since"
        else f"{name} = s.{name}"
    )
    for name, value in ((name, f"NULLIF(s.{name}, 'NaN')" if name in NULLABLE else f"s.{name}") for name in NEWEST)
)


def claim_batch(batch: UUID) -> bool:
    """Note that a batch is written in this transaction; false if it was written before."""
    with connection.cursor() as cursor:
        cursor.execute("INSERT INTO readings_writtenbatch (id) VALUES (%s) ON CONFLICT DO NOTHING", [batch])
        return bool(cursor.rowcount)


def forget_batches() -> None:
    """Forget batches that cannot come again: a collector tries one again within seconds of the database's return."""
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM readings_writtenbatch WHERE at < now() - interval '6 hours'")


def append(interfaces: NDArray[np.int64], seen: Observation, table: str = rollups.READINGS) -> None:
    """Append one reading an interface. What comes after its time was summed up makes that time due again."""
    if table == rollups.READINGS:
        rollups.share_lock()
    deltas = seen.counted.deltas
    bulk.copy(
        table,
        [
            ("interface_id", "i8", interfaces),
            ("at", "at", seen.at),
            ("in_octets", "i8", deltas[:, 0]),
            ("out_octets", "i8", deltas[:, 1]),
            ("in_packets", "i8", seen.in_packets),
            ("out_packets", "i8", seen.out_packets),
            ("in_unicast", "i8", deltas[:, IN_UNICAST]),
            ("out_unicast", "i8", deltas[:, OUT_UNICAST]),
            ("in_errors", "i8", deltas[:, 8]),
            ("out_errors", "i8", deltas[:, 9]),
            ("in_discards", "i8", deltas[:, 10]),
            ("out_discards", "i8", deltas[:, 11]),
            ("elapsed_ms", "i4", seen.counted.elapsed_ms),
            ("flags", "i2", seen.counted.flags),
            ("oper", "i2", seen.status.oper),
        ],
    )
    if table == rollups.READINGS:
        rollups.note_late(seen.at)


def renew_newest(interfaces: NDArray[np.int64], seen: Observation, state: State) -> None:
    """Write the newest state of these interfaces; ``state`` is the ledger's excerpt after it had seen them."""
    deltas = seen.counted.deltas
    with np.errstate(divide="ignore", invalid="ignore"):
        errors = np.where(
            seen.counted.elapsed_ms > 0, deltas[:, 8:].sum(axis=1) * 1000.0 / seen.counted.elapsed_ms, np.nan
        )
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
            ("uptime", "i8", state.uptime),
            ("discontinuity", "i8", state.discontinuity),
            ("port_bps", "i8", state.port_bps),
            ("counters", "i8", state.counters.view(np.int64)),
            ("in_bps", "f8", seen.in_bps),
            ("out_bps", "f8", seen.out_bps),
            ("in_percent", "f8", seen.in_percent),
            ("out_percent", "f8", seen.out_percent),
            ("error_rate", "f8", errors),
            ("flags", "i2", seen.counted.flags),
            ("oper", "i2", seen.status.oper),
            ("admin", "i2", seen.status.admin),
            ("holds", "i2", state.holds),
            ("moved", "?", state.moved),
            ("present", "?", state.present),
            ("wide", "?", state.wide),
            ("rated", "?", seen.rated),
        ],
    )
    with connection.cursor() as cursor:
        # Updating what is there and inserting the rest is several times cheaper than one upsert.
        cursor.execute(
            f"UPDATE readings_newest n SET {ASSIGNMENTS} FROM newest_block s WHERE n.interface_id = s.interface_id"
        )
        if cursor.rowcount < len(interfaces):
            names = ", ".join(NEWEST)
            values = ", ".join(f"NULLIF(s.{name}, 'NaN')" if name in NULLABLE else f"s.{name}" for name in NEWEST)
            cursor.execute(
                f"INSERT INTO readings_newest (interface_id, {names}) SELECT s.interface_id, {values} FROM newest_block s"
                " WHERE EXISTS (SELECT 1 FROM inventory_interface i WHERE i.id = s.interface_id)"
                " ON CONFLICT (interface_id) DO NOTHING"
            )


def append_components(components: Sequence[int], at: Sequence[float], values: Sequence[float]) -> None:
    """Append one value a component."""
    bulk.copy(
        "readings_componentreading",
        [
            ("component_id", "i8", np.asarray(components, np.int64)),
            ("at", "at", np.asarray(at, np.float64)),
            ("value", "f8", np.asarray(values, np.float64)),
        ],
    )


def append_devices(
    devices: Sequence[int], at: Sequence[float], rtt_ms: Sequence[float], poll_ms: Sequence[float]
) -> None:
    """Append how one poll each went."""
    bulk.copy(
        "readings_devicereading",
        [
            ("device_id", "i8", np.asarray(devices, np.int64)),
            ("at", "at", np.asarray(at, np.float64)),
            ("rtt_ms", "f8", np.asarray(rtt_ms, np.float64)),
            ("poll_ms", "f8", np.asarray(poll_ms, np.float64)),
        ],
    )
