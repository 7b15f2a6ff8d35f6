"""What changed at interfaces, as entries of the logbook and changes of their speeds."""

from collections.abc import Callable, Mapping

import numpy as np
from numpy.typing import NDArray

from lumtar.core.ethernet import DUPLEX
from lumtar.core.labels import QUIET
from lumtar.core.ledger import Observation
from lumtar.core.speeds import NOT_CREDIBLE
from lumtar.core.units import rate
from lumtar.domain.inventory.description import SpeedChange
from lumtar.domain.inventory.models import Interface
from lumtar.domain.logbook.models import Entry
from lumtar.engine.batch import Batch, moment

Find = Callable[[int], Interface]
OPER = {1: "up", 2: "down", 3: "testing", 4: "unknown", 5: "dormant", 6: "not present", 7: "lower layer down"}
"""ifOperStatus (RFC 2863)."""


def _entry(at: float, kind: str, interface: Interface, text: str) -> Entry:
    return Entry(at=moment(at), kind=kind, device_id=interface.device_id, interface=interface, text=text[:400])


def note_duplex(batch: Batch, interface: Interface, at: float, duplex: int) -> None:
    """The duplex of an interface, as it was read."""
    if interface.duplex == duplex:
        return
    was, interface.duplex = interface.duplex, duplex
    batch.duplex[interface.pk] = at, duplex
    if DUPLEX.get(was) and DUPLEX.get(duplex) and interface.role not in QUIET:
        text = f"{interface.label} has {DUPLEX[duplex]}, was {DUPLEX[was]}"
        batch.entries.append(_entry(at, Entry.Kind.SPEED, interface, text))


def note_states(
    batch: Batch, seen: Observation, before: NDArray[np.int16], find: Find, names: Mapping[int, str]
) -> None:
    """Interfaces that went up or down; ``before`` is ifOperStatus of the poll before."""
    for row in np.flatnonzero(seen.state_changed & (before != seen.status.oper)):
        interface = find(int(seen.slots[row]))
        if interface.role in QUIET:
            continue
        was, now = (OPER.get(int(value), str(value)) for value in (before[row], seen.status.oper[row]))
        text = f"{names[interface.device_id]} {interface.label} {was} → {now}"
        batch.entries.append(_entry(float(seen.at[row]), Entry.Kind.STATE, interface, text))


def note_speeds(
    batch: Batch,
    seen: Observation,
    before: NDArray[np.int64],
    known: NDArray[np.bool_],
    find: Find,
    names: Mapping[int, str],
) -> None:
    """Interfaces whose speed changed, or is not credible any more; to be called once the batch has their state.

    Parameters
    ----------
    before : the stated speed of the poll before
    known : whether there was one
    """
    assert batch.state is not None
    for row in np.flatnonzero(seen.speed_changed):
        interface, state = find(int(seen.slots[row])), batch.state
        at, now = float(seen.at[row]), int(state.port_bps[row])
        is_credible = bool(state.excess[row] < NOT_CREDIBLE)
        batch.speeds.append(
            SpeedChange(
                interface=interface.pk,
                at=moment(at),
                port_bps=now,
                from_high_speed=bool(state.from_high_speed[row]),
                in_override_bps=int(state.in_override[row]),
                out_override_bps=int(state.out_override[row]),
                is_credible=is_credible,
            )
        )
        if not known[row] or interface.role in QUIET:
            continue
        where = f"{names[interface.device_id]} {interface.label}"
        text = f"{where} now {rate(now)}, was {rate(int(before[row]))}"
        if not is_credible:
            text = f"{where} states {rate(now)} but carries more: its speed is not credible, no share is shown"
        batch.entries.append(_entry(at, Entry.Kind.SPEED, interface, text))
