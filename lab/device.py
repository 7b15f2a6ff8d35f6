"""A stand-in device: a box of the scenario with its own clock, counters and faults."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lab import equipment, mib, ports
from lab.counting import Group, boot_at, boots, is_silent
from lab.incidents import INCIDENTS, Incident
from lab.mib import Column, Mib, scalar, text
from lab.scenario import ENTERPRISE, LOST_POWER, MODELS, Box, Port, Scenario
from lumtar.core.traps import LINK_DOWN, LINK_UP, SNMP_TRAPS
from lumtar.wire import ber

WIDTH = 8
KEPT = 0.05
"""Seconds for which computed counters serve: one answer is one instant."""


def chassis(box: Box) -> bytes:
    """The MAC address that a box calls itself by."""
    return bytes((2, 0, *box.seed.to_bytes(4, "big")))


def engine_id(name: str) -> bytes:
    """A box's SNMP engine id: the example enterprise's number, and its name as text (RFC 3411 section 5)."""
    return b"\x80\x00\x7e\xd9\x04" + name.encode()


@dataclass
class PortFault:
    """What was put into one port."""

    down: bool = False
    errors_per_second: float = 0.0
    errors_since: float = 0.0
    errors: float = 0.0
    is_off: bool = False
    """Somebody switched it off by SNMP."""
    has_no_power: bool = False
    """Somebody switched its power over Ethernet off."""
    is_half: bool = False
    """It negotiated half duplex."""
    is_deaf: bool = False
    """Nothing arrives at it, though it sends."""
    mtu: int = 0
    """The largest packet, if it is set to another one than usual."""
    share_bps: tuple[float, float] | None = None
    since: float = 0.0
    held: NDArray[np.float64] = field(default_factory=lambda: np.zeros(12))
    offset: NDArray[np.float64] = field(default_factory=lambda: np.zeros(12))


@dataclass
class Manners:
    """How the device answers, apart from what it answers."""

    silent: bool = False
    tunnels_down: set[int] = field(default_factory=set)
    """Tunnels of a firewall that are down, by number."""
    pair_broken: bool = False
    """The firewall could not take over."""
    delay: float = 0.0
    loss: float = 0.0
    cut_short: bool = False
    wrong_number: bool = False
    twice: bool = False
    other_address: bool = False
    refresh: float = 0.0
    """Counters move only every so many seconds."""
    cached: float = 0.0
    """Counters are looked up anew by a read if what is there is so many seconds old."""
    flow_loss: float = 0.0
    """This share of its flow records is lost on the way."""
    flow_sampling: float = 0.0
    """It tells of one packet in so many, and does not say so."""
    flow_skew: float = 0.0
    """Seconds that its clock is ahead where it dates flows."""
    flow_no_templates: bool = False
    flow_in_only: bool = False
    """It tells of what comes in at its outer ports alone."""
    has_stranger: bool = False
    has_scan: bool = False
    slow_services: dict[int, float] = field(default_factory=dict)
    """What it sees of services that take so many milliseconds, by their ports."""


COLD_START = f"{SNMP_TRAPS}.1"


class Device:
    """Answers for one box at one instant after another."""

    def __init__(
        self,
        scenario: Scenario,
        box: Box,
        epoch: float,
        clock: Callable[[], float] = time.time,
        incidents: Iterable[Incident] = INCIDENTS,
        kept: float = KEPT,
    ) -> None:
        self.box = box
        self.epoch = epoch
        self.clock = clock
        self._kept = kept
        self.manners = Manners()
        self.faults: dict[int, PortFault] = {}
        self.incidents = tuple(incidents)
        self._group = Group(scenario, [(box, port) for port in box.ports], epoch, self.incidents)
        self._boots = boots(box, epoch, self.incidents)
        self._computed: tuple[float, list[list[bytes]]] = (-1.0, [])
        self._changed: dict[int, float] = {}
        self._cached_at = float("-inf")
        self.link_changed: Callable[[int, bool], None] = lambda index, up: None
        """Called with a port's index when its cable was pulled (False) or plugged in."""
        self.described: dict[int, str] = {}
        """Descriptions that somebody set by SNMP, by ifIndex."""
        self.missing_vlans: dict[int, set[int]] = {}
        """VLANs that are not set on a port that leads on, by ifIndex."""
        self.is_looped, self.looped_since = False, 0.0
        """Somebody joined two of its ports, and its spanning tree does not see it."""
        self.is_cut_off = False
        """Nothing that is sent to it arrives, since the cables on the way are pulled or devices there have no power."""
        self.says: Callable[[Device, str, int | None], None] = lambda device, oid, if_index: None
        """Called with the notification that the device sends, and the port that it is about."""
        self.power_changed: Callable[[bool], None] = lambda on: None
        """Called when the device lost its power (False) or has it again."""
        self.mib = Mib(self._columns())
        self._own = list(self.mib.columns)

    @property
    def _ports(self) -> dict[int, Port]:
        return {port.index: port for port in self.box.ports}

    @property
    def silent(self) -> bool:
        """Whether it keeps still now, by fault or by incident."""
        return self.manners.silent or self.is_cut_off or is_silent(self.box, self.epoch, self.clock(), self.incidents)

    def boot(self, at: float) -> float:
        """When it was last started."""
        return boot_at(self._boots, at)

    def uptime(self, at: float) -> int:
        """SysUpTime in hundredths of a second."""
        return int((at - self.boot(at)) * 100) % 2**32

    def restart(self) -> None:
        """Start over: counters and clock begin at zero."""
        self._boots.append(self.clock())
        self.says(self, COLD_START, None)
        self.faults = {
            index: PortFault(down=fault.down, since=self.clock()) for index, fault in self.faults.items() if fault.down
        }

    def renumber(self, by: int) -> None:
        """Start over with other numbers for the same ports."""
        for port in self.box.ports:
            port.index += by
        self.restart()
        self.faults = {index + by: fault for index, fault in self.faults.items()}
        self.mib = Mib(self._columns())

    def fault(self, index: int) -> PortFault:
        """The fault record of a port.

        Raises
        ------
        KeyError
            if there is no such port
        """
        if all(port.index != index for port in self.box.ports):
            raise KeyError(f"{self.box.name} has no port {index}")
        return self.faults.setdefault(index, PortFault())

    def counters(self, at: float) -> NDArray[np.float64]:
        """(ports, 12) with faults applied."""
        if self.manners.refresh:
            at = max(self.boot(at), at - at % self.manners.refresh)
        if self.manners.cached:
            if at - self._cached_at >= self.manners.cached:
                self._cached_at = at
            at = self._cached_at
        counted = self._plain(at)
        for row, port in enumerate(self.box.ports):
            fault = self.faults.get(port.index)
            if fault:
                counted[row] = self._faulted(fault, counted[row], at)
        return counted

    def _plain(self, at: float) -> NDArray[np.float64]:
        n = len(self.box.ports)
        return self._group.counters(np.full(n, at), np.full(n, self.boot(at)))

    @staticmethod
    def _faulted(fault: PortFault, plain: NDArray[np.float64], at: float) -> NDArray[np.float64]:
        if fault.share_bps is not None or fault.down:
            counted = fault.held.copy()
            for column, bps in enumerate(fault.share_bps or (0.0, 0.0)):
                if not fault.down:
                    octets = bps * (at - fault.since) / 8
                    counted[column] += octets
                    counted[2 + 3 * column] += octets / 900
        else:
            counted = plain + fault.offset
        counted[8] += fault.errors + fault.errors_per_second * max(0.0, at - fault.errors_since)
        return np.floor(counted)

    def _pin(self, index: int) -> PortFault:
        """Hold a port's counters where they are, to go on from there."""
        now = self.clock()
        fault = self.fault(index)
        row = [port.index for port in self.box.ports].index(index)
        plain = self._plain(now)[row]
        without_errors = self._faulted(fault, plain, now)
        without_errors[8] -= fault.errors + fault.errors_per_second * max(0.0, now - fault.errors_since)
        fault.held, fault.since = without_errors, now
        return fault

    def _release(self, index: int) -> None:
        fault = self._pin(index)
        row = [port.index for port in self.box.ports].index(index)
        fault.offset = fault.held - self._plain(fault.since)[row]

    def set_link(self, index: int, up: bool) -> None:
        """Pull the cable or plug it in."""
        if up:
            self._release(index)
            self.fault(index).down = False
        else:
            self._pin(index).down = True
        self._changed[index] = self.clock()
        self.link_changed(index, up)
        if not self.silent:
            self.says(self, LINK_UP if up else LINK_DOWN, index)

    def set_power(self, on: bool) -> None:
        """Take its power away or give it back: after a last word it answers nothing, and starts over then."""
        if not on and not self.manners.silent:
            self.says(self, LOST_POWER, None)
        self.manners.silent = not on
        if on:
            self.restart()
        self.power_changed(on)

    def tell(self, more: list[Column]) -> None:
        """Answer for these columns as well, in place of those before."""
        self.mib = Mib([*self._own, *more])

    def set_share(self, index: int, in_percent: float | None, out_percent: float | None) -> None:
        """Let a port carry so many per cent of its speed (the sold one, if there is one); None ends it."""
        port = next(port for port in self.box.ports if port.index == index)
        if in_percent is None or out_percent is None:
            self._release(index)
            self.fault(index).share_bps = None
            return
        sold = port.sold_bps or (port.speed_bps, port.speed_bps)
        self._pin(index).share_bps = (sold[0] * in_percent / 100, sold[1] * out_percent / 100)

    def set_errors(self, index: int, per_second: float) -> None:
        """Let a port receive so many bad frames a second."""
        fault = self.fault(index)
        now = self.clock()
        fault.errors += fault.errors_per_second * max(0.0, now - fault.errors_since)
        fault.errors_per_second, fault.errors_since = per_second, now

    def near_wrap(self, index: int, seconds: float = 30.0) -> None:
        """Move a port's octet counters to shortly before their end."""
        port = next(port for port in self.box.ports if port.index == index)
        end = 2.0**64 if port.wide else 2.0**32
        fault = self._pin(index)
        row = [each.index for each in self.box.ports].index(index)
        now = self.clock()
        ahead = self._plain(now + seconds)[row] - self._plain(now)[row]
        fault.held[:2] = end - np.maximum(ahead[:2], 4096.0)
        fault.offset = fault.held - self._plain(fault.since)[row]

    def encoded(self, at: float) -> list[list[bytes]]:
        """Every counter column of the device at about this instant, encoded."""
        if abs(at - self._computed[0]) > self._kept:
            counters = self.counters(at)
            columns = []
            for column in range(12):
                wide = column < WIDTH
                tag = ber.COUNTER64 if wide else ber.COUNTER32
                modulus = 2**64 if wide else 2**32
                columns.append([ber.integer(int(value) % modulus, tag) for value in counters[:, column]])
            for column in range(2):
                columns.append([ber.integer(int(value) % 2**32, ber.COUNTER32) for value in counters[:, column]])
            packets = [counters[:, 2], counters[:, 3] + counters[:, 4], counters[:, 5], counters[:, 6] + counters[:, 7]]
            columns += [[ber.integer(int(value) % 2**32, ber.COUNTER32) for value in values] for values in packets]
            self._computed = (at, columns)
        return self._computed[1]

    def _columns(self) -> list[Column]:
        return [*self._system(), *ports.columns(self), *equipment.columns(self)]

    def _put_in(self, index: int) -> PortFault:
        return self.faults.get(index) or PortFault()

    def mtu(self, index: int) -> int:
        """The largest packet that a port carries, octets."""
        return self._put_in(index).mtu or 1500

    def has_power(self, index: int) -> bool:
        """Whether a port may give power over Ethernet."""
        return not self._put_in(index).has_no_power

    def is_off(self, index: int) -> bool:
        """Whether somebody switched a port off by SNMP."""
        return self._put_in(index).is_off

    def is_half(self, index: int) -> bool:
        """Whether a port negotiated half duplex."""
        return self._put_in(index).is_half

    def changed_at(self, index: int) -> float:
        """When a port last went up or down; 0 if it never did."""
        return self._changed.get(index, 0.0)

    def is_deaf(self, index: int) -> bool:
        """Whether nothing arrives at a port."""
        return self._put_in(index).is_deaf

    def is_up(self, index: int, planned: bool) -> bool:
        """Whether a port carries traffic: meant to, and not unplugged."""
        fault, port = self.faults.get(index), self._ports.get(index)
        if port is not None and port.carrier and not self.is_up(port.carrier, True):
            return False
        return planned and not (fault and fault.down)

    def _system(self) -> list[Column]:
        maker, model, number = MODELS[self.box.family]
        return [
            scalar("1.3.6.1.2.1.1.1", mib.constant(text(f"{maker} {model}, software 4.2.1"))),
            scalar(
                "1.3.6.1.2.1.1.2",
                mib.constant(ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(f"{ENTERPRISE}.1.{number}"))),
            ),
            scalar("1.3.6.1.2.1.1.3", lambda at: [ber.integer(self.uptime(at), ber.TIME_TICKS)]),
            scalar("1.3.6.1.2.1.1.4", mib.constant(text("networks@oskelund.example"))),
            scalar("1.3.6.1.2.1.1.5", mib.constant(text(self.box.name))),
            scalar("1.3.6.1.2.1.1.6", mib.constant(text(f"{self.box.site} library"))),
            scalar("1.3.6.1.2.1.17.1.1", mib.constant(text(chassis(self.box)))),
            scalar("1.3.6.1.6.3.10.2.1.1", mib.constant(text(engine_id(self.box.name)))),
            scalar("1.3.6.1.2.1.2.1", mib.constant(ber.integer(len(self.box.ports)))),
            scalar("1.3.6.1.2.1.31.1.5", mib.constant(ber.integer(0, ber.TIME_TICKS))),
        ]
