"""What is known of exporters: templates, sampling, sequence numbers, and what came before its template did."""

import time
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from lumtar.core.flows.declared import Declared
from lumtar.core.flows.server_names import ServerNames
from lumtar.wire.flows.fields import Template

MOST_TEMPLATES = 4_000
"""Templates of an exporter and observation domain; the oldest ones go first."""
MOST_HELD = 256
"""Sets that wait for their template, of an exporter and observation domain; the oldest ones are dropped."""
MOST_HELD_OCTETS = 1 << 20
HELD_S = 300.0
MOST_DOMAINS = 10_000
RESTARTED = 1 << 20
"""A sequence number that is so far away from what is expected tells of a restart, not of a loss."""

MOST_LATE = 8
"""Datagrams in a row with sequence numbers from before what is expected, that are taken for late ones."""


@dataclass(frozen=True, slots=True)
class Held:
    """A data set that came before its template: its octets, the times of its datagram, and when it came."""

    data: bytes
    header: "Header"
    at: float


@dataclass(frozen=True, slots=True)
class Header:
    """The times of a datagram: when it was sent (seconds of the epoch), and what sysUpTime was then, milliseconds."""

    sent: float
    uptime_ms: int = 0


@dataclass(slots=True)
class Domain:
    """An observation domain of an exporter (RFC 7011 section 2), or a source of version 9; version 5 and sFlow have engines and agents.

    Attributes
    ----------
    key : the exporter's address, its protocol and the domain's number
    sampling : one in so many packets, by the sampler's number; that of 0 holds for all
    declared : fields that are read though no standard defines them
    names : of servers that clients asked for, by the numbers that records have
    lost : by the sequence numbers: records in version 5 and IPFIX, datagrams in version 9 and sFlow
    no_template : sets that were dropped since their template did not come
    """

    key: tuple[str, str, int] = ("", "", 0)
    templates: OrderedDict[int, Template] = field(default_factory=OrderedDict)
    sampling: dict[int, int] = field(default_factory=dict)
    held: OrderedDict[int, list[Held]] = field(default_factory=OrderedDict)
    held_sets: int = 0
    held_octets: int = 0
    declared: Sequence[Declared] = ()
    names: ServerNames = field(default_factory=ServerNames)
    next_sequence: int | None = None
    late_in_row: int = 0
    lost: int = 0
    records: int = 0
    datagrams: int = 0
    no_template: int = 0
    malformed: int = 0
    last_at: float = 0.0
    is_changed: bool = False
    """Its templates or its sampling are others than when they were kept."""

    def learn(self, template: Template) -> None:
        """Take a template over; one that is known already stays."""
        if self.templates.get(template.number) != template:
            self.is_changed = True
            self.templates[template.number] = replace(template, declared=self.declared)
        self.templates.move_to_end(template.number)
        while len(self.templates) > MOST_TEMPLATES:
            self.templates.popitem(last=False)

    def declare(self, declared: Sequence[Declared]) -> None:
        """Read some fields from now on that no standard defines."""
        self.declared = declared
        for number, template in self.templates.items():
            self.templates[number] = replace(template, declared=declared)

    def forget(self, number: int) -> None:
        """Take a template back (RFC 7011 section 8.1)."""
        if self.templates.pop(number, None) is not None:
            self.is_changed = True

    def sampled(self, sampler: int, interval: int) -> None:
        """Samples are taken one in so many packets."""
        if 0 < interval < 2**32 and self.sampling.get(sampler) != interval and len(self.sampling) < MOST_TEMPLATES:
            self.sampling[sampler] = interval
            self.is_changed = True

    def hold(self, number: int, data: bytes, header: Header) -> None:
        """Keep a data set until its template comes."""
        self.held.setdefault(number, []).append(Held(data, header, time.monotonic()))
        self.held_sets, self.held_octets = self.held_sets + 1, self.held_octets + len(data)
        while self.held_sets > MOST_HELD or self.held_octets > MOST_HELD_OCTETS:
            self._drop(next(iter(self.held)), 1)

    def take_held(self, number: int) -> list[Held]:
        """What waited for a template."""
        held = self.held.pop(number, [])
        self.held_sets -= len(held)
        self.held_octets -= sum(len(each.data) for each in held)
        return held

    def expire(self) -> None:
        """Drop what has waited too long."""
        before = time.monotonic() - HELD_S
        for number in list(self.held):
            if old := sum(each.at < before for each in self.held[number]):
                self._drop(number, old)

    def _drop(self, number: int, count: int) -> None:
        waiting = self.held[number]
        for each in waiting[:count]:
            self.held_octets -= len(each.data)
        del waiting[:count]
        self.held_sets -= count
        self.no_template += count
        if not waiting:
            del self.held[number]

    def count(self, sequence: int, step: int) -> None:
        """Follow the sequence numbers: this datagram has that one, and the next one is ``step`` further."""
        expected = self.next_sequence
        following = (sequence + step) & 0xFFFFFFFF
        if expected is not None:
            gap = (sequence - expected) & 0xFFFFFFFF
            if 0 < gap < RESTARTED:
                self.lost += gap
            elif gap >= 2**32 - RESTARTED and self.late_in_row < MOST_LATE:
                # One that came late was counted as lost before; many in a row are those of an exporter that began anew.
                self.lost, self.late_in_row = max(0, self.lost - step), self.late_in_row + 1
                return
        self.next_sequence, self.late_in_row = following, 0


@dataclass(slots=True)
class Exporters:
    """Everything that is known, by the exporter's address, its protocol and its domain."""

    domains: dict[tuple[str, str, int], Domain] = field(default_factory=dict)
    declared: Sequence[Declared] = ()
    names: ServerNames = field(default_factory=ServerNames)

    def domain(self, address: str, protocol: str, number: int) -> Domain | None:
        """A domain; None if there are too many for this one to be believed."""
        key = address, protocol, number
        found = self.domains.get(key)
        if found is None and len(self.domains) < MOST_DOMAINS:
            found = self.domains[key] = Domain(key, declared=self.declared, names=self.names)
        return found

    def declare(self, declared: Sequence[Declared]) -> None:
        """Read some fields from now on that no standard defines."""
        if declared != self.declared:
            self.declared = declared
            for domain in self.domains.values():
                domain.declare(declared)
