"""Counters of every port of the scenario at any instant."""

import math
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from lab.incidents import INCIDENTS, Decay, Heat, Incident, Silence, Surge
from lab.scenario import Box, Port, Scenario
from lab.traffic import ORIGIN, ahead_s

OCTETS_PER_UNICAST = 690.0
OCTETS_PER_MULTICAST = 61_000.0


class Group:
    """Some ports of the scenario, with the sources that feed them."""

    def __init__(
        self, scenario: Scenario, ports: list[tuple[Box, Port]], epoch: float, incidents: Iterable[Incident]
    ) -> None:
        self.ports = ports
        self._boot = np.zeros(0)
        self._at_boot = np.zeros((0, 12))
        self._sources, self._ahead = scenario.sources, ahead_s(epoch)
        place = {(box.name, port.name): number for number, (box, port) in enumerate(ports)}
        rows, sources, weights, down = [], [], [], []
        for number, (_, port) in enumerate(ports):
            for source, weight, towards_client in port.terms:
                rows.append(number)
                sources.append(source)
                weights.append(weight)
                down.append(towards_client)
        self._used, self._source = np.unique(np.array(sources, np.int64), return_inverse=True)
        self._row = np.array(rows, np.int64)
        self._weight = np.array(weights)
        self._down = np.array(down, bool)
        self._active = np.array([bool(port.terms) and port.up for _, port in ports], np.float64)
        added = [
            (place[(i.device, i.port)], *i.span(epoch), i.in_bps, i.out_bps)
            for i in incidents
            if isinstance(i, Surge) and (i.device, i.port) in place
        ]
        self._surges = np.array(added).reshape(-1, 5)
        decays = [
            (place[(i.device, i.port)], i.start + epoch, min(i.end, 40 * 86400) + epoch, i.errors_per_second)
            for i in incidents
            if isinstance(i, Decay) and (i.device, i.port) in place
        ]
        self._decays = np.array(decays).reshape(-1, 4)

    def _since_origin(self, at: NDArray[np.float64]) -> NDArray[np.float64]:
        """(n, 12) in the order of the counters, before any restart."""
        n = len(self.ports)
        total = np.zeros((n, 12))
        octets = np.zeros((n, 2))
        if len(self._row):
            # A source is looked at when the port is, so each (port, source) pair has its own instant.
            values = self._pairs(at)
            flow_in = np.where(self._down, values[:, 1], values[:, 0]) * self._weight
            flow_out = np.where(self._down, values[:, 0], values[:, 1]) * self._weight
            octets[:, 0] = np.bincount(self._row, flow_in, n)
            octets[:, 1] = np.bincount(self._row, flow_out, n)
        for slot, start, end, in_bps, out_bps in self._surges:
            row = int(slot)
            length = np.clip(at[row] - start, 0, end - start)
            octets[row] += np.array([in_bps, out_bps]) * length / 8
        idle = np.maximum(at - ORIGIN, 0) * self._active
        total[:, 0], total[:, 1] = octets[:, 0] + idle * 9, octets[:, 1] + idle * 14
        total[:, 2], total[:, 5] = octets[:, 0] / OCTETS_PER_UNICAST, octets[:, 1] / OCTETS_PER_UNICAST
        total[:, 3], total[:, 6] = (
            octets[:, 0] / OCTETS_PER_MULTICAST + idle * 0.04,
            octets[:, 1] / OCTETS_PER_MULTICAST + idle * 0.1,
        )
        total[:, 4], total[:, 7] = idle * 0.02, idle * 0.06
        for slot, start, end, errors_per_second in self._decays:
            row = int(slot)
            length = np.clip(at[row] - start, 0, end - start)
            total[row, 8] += errors_per_second * length**2 / (2 * min(end - start, 4 * 86400))
        return total

    def _pairs(self, at: NDArray[np.float64]) -> NDArray[np.float64]:
        if np.all(at == at[0]):
            return self._sources.octets(at[0] + self._ahead, self._used)[self._source]
        return self._sources.octets(at[self._row] + self._ahead, self._used[self._source])

    def counters(self, at: NDArray[np.float64], boot: NDArray[np.float64]) -> NDArray[np.float64]:
        """Whole counts since each port's device was started, (n, 12); ports that are down stand still."""
        if not np.array_equal(boot, self._boot):
            self._boot, self._at_boot = boot.copy(), self._since_origin(boot)
        counted = self._since_origin(np.maximum(at, boot)) - self._at_boot
        return np.floor(np.maximum(counted, 0.0))


def boots(box: Box, epoch: float, incidents: Iterable[Incident] = INCIDENTS) -> list[float]:
    """When the box was started, earliest first (seconds of the epoch)."""
    times = [epoch - box.up_days * 86400 - 40 * 86400]
    times += [epoch + i.end for i in incidents if isinstance(i, Silence) and i.device == box.name and i.restarts]
    return sorted(times)


def boot_at(times: list[float], at: float) -> float:
    """The last start before an instant."""
    return max((time for time in times if time <= at), default=times[0])


def is_silent(box: Box, epoch: float, at: float, incidents: Iterable[Incident] = INCIDENTS) -> bool:
    """Whether an incident keeps the box from answering."""
    return any(isinstance(i, Silence) and i.device == box.name and i.start <= at - epoch < i.end for i in incidents)


def processor_load(box: Box, number: int, epoch: float, at: float, incidents: Iterable[Incident] = INCIDENTS) -> int:
    """Per cent busy over the last minute."""
    level = 14 + 9 * math.sin(at / 7000 + box.seed % 97 + number) + 5 * math.sin(at / 611 + box.seed % 53)
    level += sum(
        i.percent for i in incidents if isinstance(i, Heat) and i.device == box.name and i.start <= at - epoch < i.end
    )
    return int(min(100.0, max(1.0, level)))


MEMORY_KIB, FLASH_KIB, FLASH_USED_KIB = 2_000_000, 120_000, 31_000
"""Sizes of a box's memory and flash disk, and what of the disk is in use."""


def memory_used_kib(box: Box, at: float) -> int:
    """Memory in use: it fills slowly over a day."""
    sway = 0.5 + 0.5 * math.sin(2 * math.pi * ((at + box.seed) % 86400) / 86400)
    return round(MEMORY_KIB * (0.42 + 0.1 * sway))


def sensor_tenths(box: Box, number: int, at: float) -> int:
    """A sensor's value in tenths of its unit."""
    _, mean, spread = box.sensors[number]
    day = math.sin(2 * math.pi * (at % 86400) / 86400 - 2.2)
    return round(10 * (mean + spread * (0.7 * day + 0.3 * math.sin(at / 1300 + box.seed % 31 + number))))


def sway(box: Box, at: float, period: float) -> float:
    """Something between 0 and 1 that goes up and down once a period of so many seconds, each box at its own time."""
    return 0.5 + 0.5 * math.sin(2 * math.pi * ((at + box.seed) % period) / period)


def number_of_clients(box: Box, point: int, at: float) -> int:
    """How many wireless clients there are at a controller's so many-th access point."""
    return round(12 + 9 * sway(box, at, 3600 * point))
