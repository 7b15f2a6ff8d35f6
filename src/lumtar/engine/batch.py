"""What some polls gave, on its way to the database: in one piece, or taken apart by device."""

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from uuid import UUID, uuid4, uuid5

import numpy as np
from numpy.typing import NDArray

from lumtar.core.ethernet import Errors
from lumtar.core.ledger import Observation, State
from lumtar.core.rows import take_rows
from lumtar.core.rules import Pairs
from lumtar.domain.alarms.services import Transition
from lumtar.domain.inventory.description import SpeedChange
from lumtar.domain.inventory.models import Reach
from lumtar.domain.logbook.models import Entry

OCTETS_A_ROW = 420
"""Memory that a reading takes while it waits."""
OCTETS_A_WORD = 700
"""Memory that a log entry, an alarm, a gap or a device's state takes, roughly."""
OCTETS_A_PAIR = 48
"""Memory that what a rule remembers of a subject takes."""


def moment(seconds: float) -> datetime:
    """Seconds of the epoch as a time."""
    return datetime.fromtimestamp(seconds, UTC)


@dataclass(slots=True)
class Reachability:
    """What is known of a device's answering. Times in seconds of the epoch."""

    reach: str = Reach.UNKNOWN
    since: float = 0.0
    silent_polls: int = 0
    answered_at: float | None = None
    started_at: float | None = None
    reason_kind: str = ""
    reason: str = ""

    def move_times(self, step: float) -> None:
        """The clock was set by so many seconds: everything was so much later or earlier by it."""
        self.since += step
        self.answered_at = self.answered_at + step if self.answered_at is not None else None
        self.started_at = self.started_at + step if self.started_at is not None else None


@dataclass(frozen=True, slots=True)
class ComponentValue:
    """The number that a component showed; it is read every so many seconds at most."""

    component: int
    kind: str
    unit: str
    at: float
    value: float
    every_s: float = 0.0


@dataclass(slots=True)
class DeviceNews:
    """How one poll of a device went, for the newest state of devices."""

    device: int
    at: float
    known: Reachability
    next_poll_at: float
    rtt_ms: float | None = None
    poll_ms: float | None = None
    requests: int | None = None
    refused: dict[str, str] | None = None
    """What it gave and was not believed; None if nothing was read."""


@dataclass(slots=True)
class GapNews:
    """A gap of a device begins (``end`` is None) or is over, with its reason."""

    device: int | None
    start: float
    end: float | None
    reason: str
    words: str


def _of_devices(memory: dict[str, Pairs], wanted: Collection[int | None]) -> dict[str, Pairs]:
    devices = np.array([device for device in wanted if device is not None], np.int64)
    of_kind = {kind: pairs.of_owners(devices) for kind, pairs in memory.items()}
    return {kind: pairs for kind, pairs in of_kind.items() if len(pairs)}


@dataclass(slots=True)
class Batch:
    """Everything that some polls gave, to be stored in one transaction.

    Attributes
    ----------
    id : by which the database knows whether it was written already
    interfaces, owners : of each reading, the interface and its device
    components : device, component, time, value
    errors : interface, time, and what only Ethernet counts
    duplex : by interface, since when it is what
    memory : what rules remember anew, by kind of subject
    fences : of each share of the devices, the number under which this collector held it (domain/operation/leases.py)
    collector : who read it
    apart : it was refused as a whole, and is being written device by device
    """

    id: UUID = field(default_factory=uuid4)
    interfaces: NDArray[np.int64] | None = None
    owners: NDArray[np.int64] | None = None
    seen: Observation | None = None
    state: State | None = None
    devices: list[DeviceNews] = field(default_factory=list)
    components: list[tuple[int, int, float, float]] = field(default_factory=list)
    errors: list[tuple[int, float, Errors]] = field(default_factory=list)
    duplex: dict[int, tuple[float, int]] = field(default_factory=dict)
    entries: list[Entry] = field(default_factory=list)
    transitions: list[Transition] = field(default_factory=list)
    gaps: list[GapNews] = field(default_factory=list)
    speeds: list[SpeedChange] = field(default_factory=list)
    memory: dict[str, Pairs] = field(default_factory=dict)
    fences: dict[int, int] = field(default_factory=dict)
    collector: str = ""
    apart: bool = False

    @property
    def rows(self) -> int:
        """Readings of interfaces in it."""
        return 0 if self.interfaces is None else len(self.interfaces)

    @property
    def octets(self) -> int:
        """The memory that it takes while it waits, roughly."""
        words = (
            len(self.devices) + len(self.entries) + len(self.transitions) + len(self.gaps) + len(self.components) // 4
        )
        remembered = sum(len(pairs) for pairs in self.memory.values())
        return OCTETS_A_ROW * self.rows + OCTETS_A_WORD * words + OCTETS_A_PAIR * remembered

    def about(self) -> list[int | None]:
        """The devices that it holds something of; None stands for what belongs to no device."""
        devices: set[int | None] = set() if self.owners is None else set(self.owners.tolist())
        devices.update(news.device for news in self.devices)
        devices.update(part[0] for part in self.components)
        devices.update(entry.device_id for entry in self.entries)
        devices.update(transition.device for transition in self.transitions)
        devices.update(gap.device for gap in self.gaps)
        devices.update(device for pairs in self.memory.values() for device in pairs.owner.tolist())
        return sorted(devices, key=lambda device: (device is not None, device or 0))

    def of(self, devices: Collection[int | None], name: str) -> "Batch":
        """What it holds of some devices, as a batch of its own whose id follows from ``name``."""
        wanted = set(devices)
        part = Batch(
            uuid5(self.id, name),
            devices=[each for each in self.devices if each.device in wanted],
            components=[each for each in self.components if each[0] in wanted],
            entries=[each for each in self.entries if each.device_id in wanted],
            transitions=[each for each in self.transitions if each.device in wanted],
            gaps=[each for each in self.gaps if each.device in wanted],
            memory=_of_devices(self.memory, wanted),
            fences=self.fences,
            collector=self.collector,
        )
        if self.interfaces is not None and self.owners is not None:
            part._take(self, np.isin(self.owners, [device for device in wanted if device is not None]))
        return part

    def _take(self, source: "Batch", kept: NDArray[np.bool_]) -> None:
        """Take over some readings of another batch, with what goes along with their interfaces."""
        assert source.interfaces is not None and source.owners is not None
        there = set(source.interfaces[kept].tolist())
        self.errors = [each for each in source.errors if each[0] in there]
        self.duplex = {key: value for key, value in source.duplex.items() if key in there}
        self.speeds = [each for each in source.speeds if each.interface in there]
        if source.seen is not None and source.state is not None and kept.any():
            self.interfaces, self.owners = source.interfaces[kept], source.owners[kept]
            self.seen, self.state = take_rows(source.seen, kept), take_rows(source.state, kept)
        else:
            self.interfaces = self.owners = self.seen = self.state = None

    def keep_interfaces(self, there: Collection[int]) -> None:
        """Leave out the readings of interfaces that are not there any more, with what goes along with them."""
        if self.interfaces is not None:
            self._take(self, np.isin(self.interfaces, list(there)))

    def halves(self) -> "tuple[Batch, Batch]":
        """Two batches with half of the devices each."""
        devices = self.about()
        middle = len(devices) // 2
        return self.of(devices[:middle], "first"), self.of(devices[middle:], "second")

    def readings(self) -> "Batch":
        """What was read, without what follows from it in words."""
        return replace(self, id=uuid5(self.id, "readings"), entries=[], transitions=[], gaps=[], memory={})

    def words(self) -> "Batch":
        """Log entries, alarms, gaps and what rules remember, without the readings."""
        return Batch(
            uuid5(self.id, "words"),
            entries=self.entries,
            transitions=self.transitions,
            gaps=self.gaps,
            memory=self.memory,
            fences=self.fences,
            collector=self.collector,
        )

    def empty(self) -> None:
        """Drop the readings and the states of devices, which the next poll renews; the words stay."""
        self.interfaces = self.owners = self.seen = self.state = None
        self.devices, self.components, self.errors, self.duplex, self.speeds = [], [], [], {}, []
