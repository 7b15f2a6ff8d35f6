"""Storing readings and the newest state. Every function runs in its caller's transaction."""

from collections.abc import Sequence
from uuid import UUID

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.counters import IN_UNICAST, OUT_UNICAST
from lumtar.core.ledger import Observation
from lumtar.domain.readings import bulk, rollups


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
