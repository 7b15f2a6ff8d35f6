"""What one poll came to, for somebody who asked for it."""

from typing import Any

import numpy as np

from lumtar.core.calculation import remarks
from lumtar.engine.batch import Batch
from lumtar.engine.collector.targets import Target
from lumtar.engine.recorder import Recorder

MOST = 500


def computed_rates(batch: Batch, recorder: Recorder, target: Target) -> list[dict[str, Any]]:
    """The rates of a device's interfaces that this batch holds; None where nothing could be computed."""
    if batch.seen is None:
        return []
    mine = set(target.slot_of.values())
    rows = [row for row, slot in enumerate(batch.seen.slots) if int(slot) in mine][:MOST]
    return [_line(batch, recorder, row) for row in rows]


def _line(batch: Batch, recorder: Recorder, row: int) -> dict[str, Any]:
    seen = batch.seen
    assert seen is not None
    interface = recorder.interface(seen.slots[row])
    return {
        "id": interface.pk,
        "label": interface.label,
        "seconds": round(float(seen.counted.elapsed_ms[row]) / 1000, 1),
        "in_bps": _number(seen.in_bps[row]),
        "out_bps": _number(seen.out_bps[row]),
        "words": "; ".join(remarks(int(seen.counted.flags[row]))),
    }


def _number(value: np.float64) -> float | None:
    return None if np.isnan(value) else round(float(value), 1)
