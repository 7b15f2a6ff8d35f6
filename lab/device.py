"""A stand-in device: a box of the scenario with its own clock, counters and faults."""

import math
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lab import mib
from lab.counting import (
    FLASH_KIB,
    FLASH_USED_KIB,
    MEMORY_KIB,
    Group,
    boot_at,
    boots,
    is_silent,
    memory_used_kib,
    processor_load,
    sensor_tenths,
)
from lab.incidents import INCIDENTS, Incident
from lab.mib import Column, Mib, scalar, table, text
from lab.scenario import ENTERPRISE, MODELS, Box, Port, Scenario, said_of
from lumtar.wire import ber

IF, IFX, DOT3 = "1.3.6.1.2.1.2.2.1", "1.3.6.1.2.1.31.1.1.1", "1.3.6.1.2.1.10.7.2.1"
ETHERNET = 6
SUPPLIES = {"core": 2, "fw": 2, "wan": 1, "acc": 1, "fs": 2, "wlc": 1}
FANS = {"core": 3, "fw": 2, "acc": 1, "fs": 2}
WIDTH = 8
KEPT = 0.05
"""Seconds for which computed counters serve: one answer is one instant."""


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
    share_bps: tuple[float, float] | None = None
    since: float = 0.0
    held: NDArray[np.float64] = field(default_factory=lambda: np.zeros(12))
    offset: NDArray[np.float64] = field(default_factory=lambda: np.zeros(12))


@dataclass
class Manners:
    """How the device answers, apart from what it answers."""

    silent: bool = False
    delay: float = 0.0
    loss: float = 0.0
    cut_short: bool = False
    wrong_number: bool = False
    twice: bool = False
    other_address: bool = False
    refresh: float = 0.0
    """Counters move only every so many seconds."""


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
        self.mib = Mib(self._columns())

    @property
    def silent(self) -> bool:
        """Whether it keeps still now, by fault or by incident."""
        return self.manners.silent or is_silent(self.box, self.epoch, self.clock(), self.incidents)

    def boot(self, at: float) -> float:
        """When it was last started."""
        return boot_at(self._boots, at)

    def uptime(self, at: float) -> int:
        """SysUpTime in hundredths of a second."""
        return int((at - self.boot(at)) * 100) % 2**32

    def restart(self) -> None:
        """Start over: counters and clock begin at zero."""
        self._boots.append(self.clock())
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

    def _encoded(self, at: float) -> list[list[bytes]]:
        """Every counter column of the device at about this instant, encoded."""
        if abs(at - self._computed[0]) > self._kept:
            whole = self.counters(at)
            columns = []
            for column in range(12):
                wide = column < WIDTH
                tag = ber.COUNTER64 if wide else ber.COUNTER32
                modulus = 2**64 if wide else 2**32
                columns.append([ber.integer(int(value) % modulus, tag) for value in whole[:, column]])
            for column in range(2):
                columns.append([ber.integer(int(value) % 2**32, ber.COUNTER32) for value in whole[:, column]])
            packets = [whole[:, 2], whole[:, 3] + whole[:, 4], whole[:, 5], whole[:, 6] + whole[:, 7]]
            columns += [[ber.integer(int(value) % 2**32, ber.COUNTER32) for value in values] for values in packets]
            self._computed = (at, columns)
        return self._computed[1]

    def _columns(self) -> list[Column]:
        columns = [
            *self._system(),
            *self._processors(),
            *self._entities(),
            *self._storage(),
            *self._power(),
            *self._own_objects(),
        ]
        ports = self.box.ports
        indexes = [port.index for port in ports]

        def of_ports(entry: str, number: int, values: list[bytes]) -> None:
            columns.append(table(entry, number, indexes, values))

        def counted(entry: str, number: int, place: int, only: list[int] | None = None) -> None:
            rows = range(len(ports)) if only is None else only
            if only is None:
                columns.append(table(entry, number, indexes, lambda at: self._encoded(at)[place]))
            else:
                columns.append(
                    table(
                        entry,
                        number,
                        [indexes[row] for row in rows],
                        lambda at: [self._encoded(at)[place][row] for row in rows],
                    )
                )

        of_ports(IF, 1, [ber.integer(port.index) for port in ports])
        said = [said_of(self.box.family, port) for port in ports]
        of_ports(IF, 2, [text(each["descr"]) for each in said])
        of_ports(IF, 3, [ber.integer(port.kind) for port in ports])
        of_ports(IF, 5, [ber.integer(min(port.speed_bps, 2**32 - 1), ber.GAUGE32) for port in ports])
        of_ports(
            IF,
            6,
            [
                text(
                    bytes(
                        (
                            2,
                            0,
                            self.box.seed >> 16 & 255,
                            self.box.seed >> 8 & 255,
                            self.box.seed & 255,
                            port.index & 255,
                        )
                    )
                )
                for port in ports
            ],
        )
        columns.append(table(IF, 7, indexes, [ber.integer(1)] * len(ports)))
        columns.append(
            table(
                IF, 8, indexes, lambda at: [ber.integer(1 if self._is_up(port.index, port.up) else 2) for port in ports]
            )
        )
        columns.append(
            table(
                IF,
                9,
                indexes,
                lambda at: [
                    ber.integer(max(0, int((self._changed.get(port.index, 0) - self.boot(at)) * 100)), ber.TIME_TICKS)
                    for port in ports
                ],
            )
        )
        for number, place in (
            (10, 12),
            (11, 14),
            (12, 15),
            (13, 10),
            (14, 8),
            (16, 13),
            (17, 16),
            (18, 17),
            (19, 11),
            (20, 9),
        ):
            counted(IF, number, place)
        of_ports(IFX, 1, [text(each["name"]) for each in said])
        wide = [row for row, port in enumerate(ports) if port.wide]
        for number, place in ((6, 0), (7, 2), (8, 3), (9, 4), (10, 1), (11, 5), (12, 6), (13, 7)):
            counted(IFX, number, place, None if len(wide) == len(ports) else wide)
        of_ports(IFX, 15, [ber.integer(round(port.speed_bps / 1e6), ber.GAUGE32) for port in ports])
        of_ports(IFX, 18, [text(each["alias"]) for each in said])
        of_ports(IFX, 19, [ber.integer(0, ber.TIME_TICKS)] * len(ports))
        wired = [row for row, port in enumerate(ports) if port.kind == ETHERNET]
        counted(DOT3, 3, 8, wired)
        for number, value in ((2, 0), (8, 0), (19, 3)):
            columns.append(table(DOT3, number, [ports[row].index for row in wired], [ber.integer(value)] * len(wired)))
        return columns

    def _is_up(self, index: int, planned: bool) -> bool:
        fault = self.faults.get(index)
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
            scalar("1.3.6.1.2.1.17.1.1", mib.constant(text(bytes((2, 0, *self.box.seed.to_bytes(4, "big")))))),
            scalar("1.3.6.1.6.3.10.2.1.1", mib.constant(text(engine_id(self.box.name)))),
            scalar("1.3.6.1.2.1.2.1", mib.constant(ber.integer(len(self.box.ports)))),
            scalar("1.3.6.1.2.1.31.1.5", mib.constant(ber.integer(0, ber.TIME_TICKS))),
        ]

    def _own_objects(self) -> list[Column]:
        """What a maker shows beneath its own number: a battery, sessions, clients of access points."""
        own = f"{ENTERPRISE}.2.{MODELS[self.box.family][2]}"

        def sway(at: float, period: float) -> float:
            return 0.5 + 0.5 * math.sin(2 * math.pi * ((at + self.box.seed) % period) / period)

        def sessions(at: float) -> float:
            """Begun since the start: the integral of 40 a second, swaying by a tenth within ten minutes."""
            began, turn = self.boot(at), 2 * math.pi / 600
            return 40 * (at - began) + 4 / turn * (math.cos(turn * began) - math.cos(turn * at))

        if self.box.family == "ups":
            return [
                scalar(f"{own}.1", lambda at: [ber.integer(round(92 + 8 * sway(at, 86400)), ber.GAUGE32)]),
                scalar(f"{own}.2", lambda at: [text(f"{38 + 6 * sway(at, 7200):.1f} min")]),
            ]
        if self.box.family == "fw":
            return [
                scalar(f"{own}.1", lambda at: [ber.integer(round(2400 + 900 * sway(at, 86400)), ber.GAUGE32)]),
                scalar(f"{own}.2", lambda at: [ber.integer(int(sessions(at)) % 2**32, ber.COUNTER32)]),
            ]
        if self.box.family == "wlc":
            points = list(range(1, 7))
            return [
                table(
                    own,
                    1,
                    points,
                    lambda at: [ber.integer(round(12 + 9 * sway(at, 3600 * point)), ber.GAUGE32) for point in points],
                )
            ]
        return []

    def _processors(self) -> list[Column]:
        numbers = list(range(1, self.box.processors + 1))

        def load(at: float) -> list[bytes]:
            return [ber.integer(processor_load(self.box, number, self.epoch, at, self.incidents)) for number in numbers]

        return [table("1.3.6.1.2.1.25.3.3.1", 2, numbers, load)]

    def _storage(self) -> list[Column]:
        """Memory and a flash disk."""
        storage = "1.3.6.1.2.1.25.2.3.1"
        kinds = [ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(f"1.3.6.1.2.1.25.2.1.{kind}")) for kind in (2, 9)]

        def used(at: float) -> list[bytes]:
            return [ber.integer(memory_used_kib(self.box, at)), ber.integer(FLASH_USED_KIB)]

        return [
            table(storage, 2, [1, 2], kinds),
            table(storage, 3, [1, 2], [text("Memory"), text("Flash")]),
            table(storage, 4, [1, 2], [ber.integer(1024)] * 2),
            table(storage, 5, [1, 2], [ber.integer(MEMORY_KIB), ber.integer(FLASH_KIB)]),
            table(storage, 6, [1, 2], used),
        ]

    def _power(self) -> list[Column]:
        """Power over Ethernet of access switches: ports that are up may take some."""
        if self.box.family != "acc":
            return []
        wired = [port for port in self.box.ports if port.kind == ETHERNET]

        def takes(port: Port) -> bool:
            return self._is_up(port.index, port.up) and port.index % 3 == 0

        def ports(at: float) -> list[bytes]:
            return [ber.integer(3 if takes(port) else 2) for port in wired]

        def watts(at: float) -> list[bytes]:
            return [ber.integer(round(sum(6.4 for port in wired if takes(port))), ber.GAUGE32)]

        entry = "1.3.6.1.2.1.105.1.1.1"
        indexes = [ber.subidentifiers([1, port.index]) for port in wired]
        return [
            Column(ber.oid_body(f"{entry}.6"), indexes, ports),
            table("1.3.6.1.2.1.105.1.3.1.1", 2, [1], [ber.integer(370, ber.GAUGE32)]),
            table("1.3.6.1.2.1.105.1.3.1.1", 4, [1], watts),
        ]

    def _entities(self) -> list[Column]:
        maker, model, _ = MODELS[self.box.family]
        physical, sensor = "1.3.6.1.2.1.47.1.1.1.1", "1.3.6.1.2.1.99.1.1.1"
        sensors = ["chassis", *(name for name, _, _ in self.box.sensors)]
        supplies = [f"Power supply {number}" for number in range(1, SUPPLIES.get(self.box.family, 0) + 1)]
        fans = [f"Fan {number}" for number in range(1, FANS.get(self.box.family, 0) + 1)]
        names = [*sensors, *supplies, *fans]
        indexes = [*range(1, len(sensors) + 1), *range(101, 101 + len(supplies)), *range(201, 201 + len(fans))]
        only_chassis = [""] * (len(names) - 1)

        def of_entities(number: int, values: list[bytes]) -> Column:
            return table(physical, number, indexes, values)

        kinds = [8 if "emperature" in name else 1 for name in sensors[1:]]
        count = len(kinds)

        def readings(at: float) -> list[bytes]:
            return [ber.integer(sensor_tenths(self.box, number, at)) for number in range(count)]

        return [
            of_entities(2, [text(model), *(text(name) for name in names[1:])]),
            of_entities(5, [ber.integer(kind) for kind in (3, *[8] * count, *[6] * len(supplies), *[7] * len(fans))]),
            table("1.3.6.1.2.1.131.1.1.1", 3, indexes[1 + count :], [ber.integer(3)] * (len(supplies) + len(fans))),
            of_entities(7, [text(name) for name in names]),
            of_entities(10, [text(value) for value in ["4.2.1", *only_chassis]]),
            of_entities(11, [text(value) for value in [f"{self.box.seed:08X}", *only_chassis]]),
            of_entities(12, [text(value) for value in [maker, *only_chassis]]),
            of_entities(13, [text(value) for value in [model, *only_chassis]]),
            table(sensor, 1, indexes[1 : 1 + count], [ber.integer(kind) for kind in kinds]),
            table(sensor, 2, indexes[1 : 1 + count], [ber.integer(9)] * count),
            table(sensor, 3, indexes[1 : 1 + count], [ber.integer(1)] * count),
            table(sensor, 4, indexes[1 : 1 + count], readings),
            table(sensor, 5, indexes[1 : 1 + count], [ber.integer(1)] * count),
        ]
