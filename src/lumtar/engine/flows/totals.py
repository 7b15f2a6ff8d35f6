"""From datagrams to totals: read them, know whose they are, add them up by minute until these have closed."""

from collections import Counter, OrderedDict, deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows import totals
from lumtar.core.flows.applications import Applications
from lumtar.core.flows.records import EGRESS, INGRESS, Records
from lumtar.core.flows.response_times import Seen, Times, responses_of
from lumtar.core.flows.scans import fan_out
from lumtar.core.flows.totals import Conversations
from lumtar.domain.flows.exporters import Key
from lumtar.engine.flows.answering import Answering
from lumtar.engine.flows.inlet import Datagram
from lumtar.engine.flows.inventory import Known
from lumtar.engine.flows.recording import Recorder
from lumtar.engine.flows.sightings import Sightings
from lumtar.wire.ber import Malformed
from lumtar.wire.flows import netflow5, sflow, templated
from lumtar.wire.flows.exporters import Domain, Exporters

GRACE_MINUTES = 2
"""Minutes after its end for which a minute stays open; what comes later is stored as rows beside."""
MOST_OPEN = 3_000_000
"""Conversations in open minutes; beyond that the oldest minutes are closed early."""
KEPT_ONE_BY_ONE = 500
"""Conversations of an interface, way and minute that are kept; the rest is put together."""
MOST_SCANNING = 200
MOST_STRANGE = 20
FUTURE_S = 300.0
"""A flow that ends later than this from now has a clock that is wrong: it is dated when it came."""
PAST_S = 86400.0


@dataclass(slots=True)
class Ways:
    """In which directions an exporter was seen to look at its interfaces."""

    ingress: bool = False
    egress: bool = False


@dataclass
class Totals:
    """Everything between datagrams and rows."""

    exporters: Exporters = field(default_factory=Exporters)
    applications: Applications = field(default_factory=Applications)
    known: Known = field(default_factory=Known)
    counted: Counter[str] = field(default_factory=Counter)
    recorder: Recorder = field(default_factory=Recorder)
    sightings: Sightings = field(default_factory=Sightings)
    strange: OrderedDict[str, dict[str, Any]] = field(default_factory=OrderedDict)
    scanning: deque[NDArray[np.void]] = field(default_factory=lambda: deque(maxlen=MOST_SCANNING))
    """Senders with many receivers in minutes that have closed, until they are stored."""
    answering: Answering = field(default_factory=Answering)
    skew: dict[Key, float] = field(default_factory=dict)
    _open: dict[int, list[Conversations]] = field(default_factory=dict)
    _rows: int = 0
    _ways: dict[Key, Ways] = field(default_factory=dict)
    _samples: sflow.Samples = field(default_factory=sflow.Samples)
    _pending: templated.Pending = field(default_factory=templated.Pending)

    def take(self, datagrams: Sequence[Datagram], now: float) -> None:
        """Read datagrams, and add up what they tell."""
        version_5: list[tuple[Domain, Records]] = []
        self.exporters.names.tidy()
        for data, sender in datagrams:
            try:
                self._take_one(data, sender, now, version_5)
            except (Malformed, ValueError, OverflowError) as error:
                self.counted["malformed"] += 1
                self._note_strange(sender, f"it cannot be understood: {error}", now)
        without_times = [(*each, None) for each in (*version_5, *sflow.read(self._samples))]
        self.counted["datagrams"] += len(datagrams)
        for domain, records, times in (*without_times, *templated.read(self._pending)):
            self.counted["records"] += len(records)
            self._add(domain, records, times, now)

    def _take_one(self, data: bytes, sender: str, now: float, version_5: list[tuple[Domain, Records]]) -> None:
        version = int.from_bytes(data[:2], "big") if len(data) >= 4 else -1
        if version in (templated.NETFLOW_9, templated.IPFIX):
            templated.take(data, sender, self.exporters, self._pending)
        elif version == 5:
            version_5.append(netflow5.read(data, sender, self.exporters))
        elif version == 0 and data[2:4] == b"\x00\x05":
            sflow.take(data, sender, self.exporters, self._samples, now)
        else:
            raise Malformed("it is neither NetFlow 5 or 9 nor IPFIX nor sFlow 5")

    def _note_strange(self, sender: str, why: str, now: float) -> None:
        times = self.strange.pop(sender, {"times": 0})["times"] + 1
        self.strange[sender] = {"times": times, "why": why[:200], "at": now}
        while len(self.strange) > MOST_STRANGE:
            self.strange.popitem(last=False)

    def _add(self, domain: Domain, records: Records, times: Times | None, now: float) -> None:
        domain.last_at = now
        device = self.known.device_of(domain.key)
        self._date(domain, records, now)
        if device is None:
            self.counted["unknown_records"] += len(records)
            return
        known = self.known.interfaces[device]
        ways = self._ways.setdefault(domain.key, Ways())
        ways.ingress |= bool((records["direction"] == INGRESS).any())
        ways.egress |= bool((records["direction"] == EGRESS).any())
        whole = totals.scaled(records, self.known.usual_sampling.get(domain.key, 0))
        ports = totals.service_port(
            whole["src_port"], whole["dst_port"], whole["protocol"], self.applications.known_ports
        )
        applications = self.applications.find(whole, ports, self.exporters.names)
        inner, outer = known.find(whole["input"]), known.find(whole["output"])
        src_site, dst_site = (self.known.sites.find(whole[f"{end}_hi"], whole[f"{end}_lo"]) for end in ("src", "dst"))
        self.recorder.add(
            device, whole, now,
            {
                "port": ports, "application": applications, "in_id": inner, "out_id": outer, "src_site": src_site,
                "dst_site": dst_site, "server_name": self.exporters.names.texts(whole["server_name"]),
            },
        )  # fmt: skip
        if times is not None:
            seen = Seen(ports, applications, (inner, outer), (src_site, dst_site))
            self.answering.add(responses_of(whole, times, device, seen))
        told, _ = totals.passed(whole, ports, (inner, outer), applications, (src_site, dst_site))
        # Added up before they are told apart by interface: that is half as many rows.
        rows, _ = totals.at_interfaces(totals.added(told), both_ways=ways.ingress and ways.egress)
        self.sightings.look(rows, now)
        for minute in np.unique(rows["minute"]).tolist():
            self._open.setdefault(minute, []).append(rows[rows["minute"] == minute])
        self._rows += len(rows)

    def _date(self, domain: Domain, records: Records, now: float) -> None:
        """Flows of exporters whose clock is wrong are dated when they came; how wrong it is, is told."""
        newest = float(records["end"].max())
        self.skew[domain.key] = newest - now
        wrong = (records["end"] > now + FUTURE_S) | (records["end"] < now - PAST_S)
        if wrong.any():
            self.counted["wrong_clock"] += int(wrong.sum())
            lasted = np.clip(records["end"] - records["start"], 0.0, 3600.0)
            records["end"] = np.where(wrong, now, records["end"])
            records["start"] = np.where(wrong, now - lasted, records["start"])

    def closed(self, now: float, *, whole: bool = False) -> Conversations:
        """The totals of minutes that have closed: each conversation once, the smaller ones put together.

        Parameters
        ----------
        whole : of those that are open as well, since nothing more is added up
        """
        last = int(now // 60) - GRACE_MINUTES
        ready = [minute for minute in self._open if whole or minute < last]
        if self._rows > MOST_OPEN:
            self._pack()
            for minute in sorted(self._open):
                if self._rows <= MOST_OPEN // 2:
                    break
                if minute not in ready:
                    ready.append(minute)
                    self.counted["closed_early"] += 1
                    self._rows -= sum(map(len, self._open[minute]))
        rows = [part for minute in ready for part in self._open.pop(minute)]
        self._rows = sum(len(part) for parts in self._open.values() for part in parts)
        if not rows:
            return np.zeros(0, totals.CONVERSATION)
        added = totals.added(np.concatenate(rows))
        self.scanning.append(fan_out(added))
        return totals.largest(totals.counted_once(added, self.known.device_by_interface), KEPT_ONE_BY_ONE)

    def _pack(self) -> None:
        """Add up what is alike within open minutes, so that they take less room."""
        for minute, parts in self._open.items():
            if len(parts) > 1:
                self._open[minute] = [totals.added(np.concatenate(parts))]
        self._rows = sum(len(part) for parts in self._open.values() for part in parts)
