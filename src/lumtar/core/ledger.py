"""The newest state of every interface, and what follows from one more poll of some of them.

The ledger holds arrays with one slot an interface. It knows no database and no clock: the
collector and the loader of history feed it alike, so both get the same readings and the same
state changes.
"""

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.counters import COUNTERS, IN_PACKETS, OUT_PACKETS, VOID, Counted, Flag, Snapshot, count
from lumtar.core.measures import Counts
from lumtar.core.measures.rates import bits_per_second, per_second, utilisation
from lumtar.core.rows import take_rows
from lumtar.core.slots import Slots
from lumtar.core.speeds import NOT_CREDIBLE, excess_after, port_speed

UP = 1
"""ifOperStatus and ifAdminStatus 'up' (RFC 2863)."""

Places = NDArray[np.int64]


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
    in_speed, out_speed : in force, bits per second; 0 where not known, or not to be believed
    state_changed, speed_changed : against the poll before
    """

    slots: Places
    at: NDArray[np.float64]
    counted: Counted
    status: Status
    in_bps: NDArray[np.float64]
    out_bps: NDArray[np.float64]
    in_percent: NDArray[np.float64]
    out_percent: NDArray[np.float64]
    in_speed: NDArray[np.float64]
    out_speed: NDArray[np.float64]
    rated: NDArray[np.bool_]
    state_changed: NDArray[np.bool_]
    speed_changed: NDArray[np.bool_]

    @property
    def in_packets(self) -> NDArray[np.int64]:
        """Unicast, multicast and broadcast together."""
        return np.asarray(self.counted.deltas[:, IN_PACKETS].sum(axis=1))

    @property
    def out_packets(self) -> NDArray[np.int64]:
        """Unicast, multicast and broadcast together."""
        return np.asarray(self.counted.deltas[:, OUT_PACKETS].sum(axis=1))

    def counts(self) -> Counts:
        """What measures are computed from."""
        deltas, flags = self.counted.deltas, self.counted.flags
        # As with sums, what spans a gap is a volume without a rate.
        spans = (flags & np.int16(Flag.BRIDGED)) != 0
        void = (flags & np.int16(VOID)) != 0
        columns = {
            **{name: np.where(spans, 0, deltas[:, place]) for place, name in enumerate(COUNTERS[:2])},
            **{f"bridged_{name}": np.where(spans, deltas[:, place], 0) for place, name in enumerate(COUNTERS[:2])},
            **{name: deltas[:, 8 + place] for place, name in enumerate(COUNTERS[8:])},
            "in_packets": self.in_packets,
            "out_packets": self.out_packets,
            "elapsed_ms": np.where(spans, 0, self.counted.elapsed_ms),
            "in_max_bps": self.in_bps,
            "out_max_bps": self.out_bps,
            "readings": np.ones(len(flags), np.int64),
            "up_readings": (self.status.oper == UP).astype(np.int64),
            "void_readings": void.astype(np.int64),
        }
        return Counts.of(columns, self.in_speed, self.out_speed, interface=self.slots, seconds=0.0)


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
    excess: NDArray[np.int16]
    """How often in a row the port's stated speed was exceeded; NOT_CREDIBLE once that is beyond doubt."""
    counted_at: NDArray[np.float64]
    packets: NDArray[np.float64]
    """A second, both ways, in the last reading that counted."""

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
            excess=np.zeros(size, np.int16),
            counted_at=np.full(size, np.nan),
            packets=np.zeros(size),
        )


@dataclass(slots=True)
class Ledger:
    """The state of all interfaces.

    Attributes
    ----------
    slots : who has which
    """

    slots: Slots = field(default_factory=Slots)
    state: State = field(default_factory=lambda: State.blank(0))

    @property
    def room(self) -> int:
        """Slots that there is memory for."""
        return len(self.state.at)

    def add(self, number: int) -> Places:
        """Slots for so many more interfaces: first those that others had."""
        slots, room = self.slots.take(number), len(self.state.at)
        if self.slots.size > room:
            more = State.blank(max(self.slots.size, 2 * room) - room)
            for name in State.__dataclass_fields__:
                setattr(self.state, name, np.concatenate([getattr(self.state, name), getattr(more, name)]))
        return slots

    def drop(self, slots: Places) -> None:
        """Forget what these slots hold; others may have them."""
        blank = State.blank(len(slots))
        for name in State.__dataclass_fields__:
            getattr(self.state, name)[slots] = getattr(blank, name)
        self.slots.give_back(slots)

    def speeds(self, slots: Places) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The speeds in force in bits per second, in and out; 0 where not known or not to be believed."""
        state = self.state
        port = np.where(state.excess[slots] >= NOT_CREDIBLE, 0, state.port_bps[slots])
        into = np.where(state.in_override[slots] > 0, state.in_override[slots], port)
        out = np.where(state.out_override[slots] > 0, state.out_override[slots], port)
        return into.astype(np.float64), out.astype(np.float64)

    def excerpt(self, slots: Places) -> State:
        """A copy of the state of some slots."""
        return take_rows(self.state, slots)

    def observe(self, slots: Places, snapshot: Snapshot, status: Status) -> Observation:
        """Take in one poll. No slot may occur twice in one call."""
        state = self.state
        before = Snapshot(
            state.at[slots],
            state.uptime[slots],
            state.discontinuity[slots],
            state.counters[slots],
            state.present[slots],
            state.wide[slots],
            state.counted_at[slots],
        )
        first = ~state.seen[slots]
        port_bps, from_high = port_speed(status.high_speed_mbps, status.speed_bps)
        renamed = first | (port_bps != state.port_bps[slots])
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
        in_bps = bits_per_second(counted.deltas[:, 0], timed)
        out_bps = bits_per_second(counted.deltas[:, 1], timed)
        before_excess = np.where(renamed, 0, state.excess[slots])
        excess = excess_after(before_excess, np.fmax(in_bps, out_bps), port_bps)
        state.excess[slots] = excess
        speed_changed = renamed | ((excess >= NOT_CREDIBLE) != (before_excess >= NOT_CREDIBLE))
        in_speed, out_speed = self.speeds(slots)
        in_percent, out_percent = utilisation(in_bps, in_speed), utilisation(out_bps, out_speed)
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
            in_speed,
            out_speed,
            ~held,
            state_changed,
            speed_changed,
        )

    def _remember(
        self,
        slots: Places,
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
        state.counted_at[moving] = snapshot.counted_at[kept]
        accepted = ~void
        state.moved[slots[accepted]] = (counted.deltas[accepted] != 0).any(axis=1)
        packets = counted.deltas[accepted, IN_PACKETS].sum(axis=1) + counted.deltas[accepted, OUT_PACKETS].sum(axis=1)
        state.packets[slots[accepted]] = per_second(packets, counted.elapsed_ms[accepted])
        state.seen[slots] = True
        state.oper[slots] = status.oper
        state.admin[slots] = status.admin
        state.port_bps[slots] = port_bps
        state.from_high_speed[slots] = from_high
