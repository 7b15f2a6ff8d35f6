"""The newest state of every interface, and what follows from one more poll of some of them.

The ledger holds arrays with one slot an interface. It knows no database and no clock: the
collector and the loader of history feed it alike, so both get the same readings, the same
state changes and the same alarms.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core import measures
from lumtar.core.counters import COUNTERS, IN_PACKETS, OUT_PACKETS, VOID, Counted, Flag, Snapshot, count
from lumtar.core.rows import ALONG_SECOND_AXIS, take_rows
from lumtar.core.rules.threshold import Threshold, Watched, step
from lumtar.core.speeds import port_speed

UP = 1
"""ifOperStatus and ifAdminStatus 'up' (RFC 2863)."""

Slots = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Status:
    """What else one poll said of n interfaces: states, ifHighSpeed in Mb/s, ifSpeed in bits per second."""

    admin: NDArray[np.int16]
    oper: NDArray[np.int16]
    high_speed_mbps: NDArray[np.int64]
    speed_bps: NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Observation:
    """What follows from one poll of n interfaces; every array has one entry an interface.

    Attributes
    ----------
    at : seconds of the epoch
    counted : deltas, elapsed time and flags
    in_bps, out_bps : NaN where there is no rate
    in_percent, out_percent : of the speed in force, NaN where not known
    rated : whether there is a new rate; a held reading leaves the last one standing
    state_changed, speed_changed : against the poll before
    raised, cleared : one row a rule, whether its alarm is to be raised or cleared
    """

    slots: Slots
    at: NDArray[np.float64]
    counted: Counted
    status: Status
    in_bps: NDArray[np.float64]
    out_bps: NDArray[np.float64]
    in_percent: NDArray[np.float64]
    out_percent: NDArray[np.float64]
    rated: NDArray[np.bool_]
    state_changed: NDArray[np.bool_]
    speed_changed: NDArray[np.bool_]
    raised: NDArray[np.bool_] = field(metadata=ALONG_SECOND_AXIS)
    cleared: NDArray[np.bool_] = field(metadata=ALONG_SECOND_AXIS)

    @property
    def in_packets(self) -> NDArray[np.int64]:
        """Unicast, multicast and broadcast together."""
        return np.asarray(self.counted.deltas[:, IN_PACKETS].sum(axis=1))

    @property
    def out_packets(self) -> NDArray[np.int64]:
        """Unicast, multicast and broadcast together."""
        return np.asarray(self.counted.deltas[:, OUT_PACKETS].sum(axis=1))


@dataclass(slots=True)
class State:
    """Arrays of equal length, one slot an interface."""

    at: NDArray[np.float64]
    uptime: NDArray[np.int64]
    discontinuity: NDArray[np.int64]
    counters: NDArray[np.uint64]
    present: NDArray[np.bool_]
    wide: NDArray[np.bool_]
    seen: NDArray[np.bool_]
    moved: NDArray[np.bool_]
    holds: NDArray[np.int16]
    oper: NDArray[np.int16]
    admin: NDArray[np.int16]
    port_bps: NDArray[np.int64]
    from_high_speed: NDArray[np.bool_]
    in_override: NDArray[np.int64]
    out_override: NDArray[np.int64]
    interval: NDArray[np.float64]

    @classmethod
    def blank(cls, size: int) -> "State":
        """So many slots of which nothing is known."""
        return cls(
            at=np.zeros(size),
            uptime=np.full(size, -1, np.int64),
            discontinuity=np.zeros(size, np.int64),
            counters=np.zeros((size, len(COUNTERS)), np.uint64),
            present=np.zeros(size, np.bool_),
            wide=np.zeros(size, np.bool_),
            seen=np.zeros(size, np.bool_),
            moved=np.zeros(size, np.bool_),
            holds=np.zeros(size, np.int16),
            oper=np.zeros(size, np.int16),
            admin=np.zeros(size, np.int16),
            port_bps=np.zeros(size, np.int64),
            from_high_speed=np.zeros(size, np.bool_),
            in_override=np.zeros(size, np.int64),
            out_override=np.zeros(size, np.int64),
            interval=np.full(size, 60.0),
        )


@dataclass(slots=True)
class Ledger:
    """The state of all interfaces and the memory of all rules.

    Attributes
    ----------
    size : slots in use
    over, raised : one row a rule, one column a slot
    """

    rules: Sequence[Threshold]
    size: int = 0
    state: State = field(default_factory=lambda: State.blank(0))
    over: NDArray[np.int16] = field(init=False)
    raised: NDArray[np.bool_] = field(init=False)

    def __post_init__(self) -> None:
        self.over = np.zeros((len(self.rules), 0), np.int16)
        self.raised = np.zeros((len(self.rules), 0), np.bool_)

    def add(self, number: int) -> Slots:
        """New slots for so many interfaces."""
        first, self.size = self.size, self.size + number
        room = len(self.state.at)
        if self.size > room:
            more = State.blank(max(self.size, 2 * room) - room)
            for name in State.__dataclass_fields__:
                setattr(self.state, name, np.concatenate([getattr(self.state, name), getattr(more, name)]))
            grown = len(self.state.at) - room
            self.over = np.pad(self.over, ((0, 0), (0, grown)))
            self.raised = np.pad(self.raised, ((0, 0), (0, grown)))
        return np.arange(first, self.size)

    def speeds(self, slots: Slots) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The speeds in force in bits per second, in and out; 0 where not known."""
        state = self.state
        port = state.port_bps[slots]
        into = np.where(state.in_override[slots] > 0, state.in_override[slots], port)
        out = np.where(state.out_override[slots] > 0, state.out_override[slots], port)
        return into.astype(np.float64), out.astype(np.float64)

    def excerpt(self, slots: Slots) -> State:
        """A copy of the state of some slots."""
        return take_rows(self.state, slots)

    def observe(self, slots: Slots, snapshot: Snapshot, status: Status) -> Observation:
        """Take in one poll. No slot may occur twice in one call."""
        state = self.state
        before = Snapshot(
            state.at[slots],
            state.uptime[slots],
            state.discontinuity[slots],
            state.counters[slots],
            state.present[slots],
            state.wide[slots],
        )
        first = ~state.seen[slots]
        port_bps, from_high = port_speed(status.high_speed_mbps, status.speed_bps)
        speed_changed = first | (port_bps != state.port_bps[slots])
        state_changed = ~first & ((status.oper != state.oper[slots]) | (status.admin != state.admin[slots]))
        counted = count(
            before,
            snapshot,
            first=first,
            interval=state.interval[slots],
            speed_bps=port_bps.astype(np.float64),
            moved=state.moved[slots],
            holds=state.holds[slots],
            is_up=status.oper == UP,
        )
        self._remember(slots, snapshot, status, counted, port_bps, from_high)

        spans = (counted.flags & np.int16(Flag.BRIDGED)) != 0
        timed = np.where(spans, 0, counted.elapsed_ms).astype(np.int32)
        in_bps = measures.bits_per_second(counted.deltas[:, 0], timed)
        out_bps = measures.bits_per_second(counted.deltas[:, 1], timed)
        in_speed, out_speed = self.speeds(slots)
        in_percent = measures.utilisation(in_bps, in_speed)
        out_percent = measures.utilisation(out_bps, out_speed)
        raised, cleared = self._watch(slots, np.fmax(in_percent, out_percent))
        held = (counted.flags & np.int16(Flag.HELD)) != 0
        return Observation(
            slots,
            snapshot.at,
            counted,
            status,
            in_bps,
            out_bps,
            in_percent,
            out_percent,
            ~held,
            state_changed,
            speed_changed,
            raised,
            cleared,
        )

    def _remember(
        self,
        slots: Slots,
        snapshot: Snapshot,
        status: Status,
        counted: Counted,
        port_bps: NDArray[np.int64],
        from_high: NDArray[np.bool_],
    ) -> None:
        state = self.state
        held = (counted.flags & np.int16(Flag.HELD)) != 0
        void = (counted.flags & np.int16(VOID)) != 0
        state.holds[slots] = np.where(held, state.holds[slots] + 1, 0)
        # A held reading keeps its baseline, so that the next one covers its time as well.
        moving, kept = slots[~held], ~held
        state.at[moving] = snapshot.at[kept]
        state.uptime[moving] = snapshot.uptime[kept]
        state.discontinuity[moving] = snapshot.discontinuity[kept]
        state.counters[moving] = snapshot.counters[kept]
        state.present[moving] = snapshot.present[kept]
        state.wide[moving] = snapshot.wide[kept]
        accepted = ~void
        state.moved[slots[accepted]] = (counted.deltas[accepted] != 0).any(axis=1)
        state.seen[slots] = True
        state.oper[slots] = status.oper
        state.admin[slots] = status.admin
        state.port_bps[slots] = port_bps
        state.from_high_speed[slots] = from_high

    def _watch(self, slots: Slots, percent: NDArray[np.float64]) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        raised = np.zeros((len(self.rules), len(slots)), np.bool_)
        cleared = raised.copy()
        for row, rule in enumerate(self.rules):
            before = Watched(self.over[row, slots], self.raised[row, slots])
            after = step(rule, percent, before)
            self.over[row, slots] = after.over
            self.raised[row, slots] = after.raised
            raised[row] = after.raised & ~before.raised
            cleared[row] = before.raised & ~after.raised
        return raised, cleared
