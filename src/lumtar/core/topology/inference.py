"""Links that follow from forwarding tables, where devices tell of no neighbours.

At which port a bridge hears another device says on which side of it that one is. Two devices are joined directly if nobody is
between them: no third bridge hears the two at different ports. Where that cannot be told nothing is inferred, since a link that is
not there misleads more than one that is missing.
"""

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lumtar.core.topology.bridging import Forwarding
from lumtar.core.topology.links import End

Numbers = NDArray[np.int64]
SURE = 0.9
"""This share of what two bridges both hear has to be on one side, before that side is taken for the way to the other bridge."""
MOST_BEHIND = 300
"""Devices at one port; with more of them that tell nothing of their neighbours, nothing is inferred there."""
NONE = -1


@dataclass(frozen=True, slots=True)
class Inferred:
    """Two ends that are joined; ``shared`` are how many devices there are at the port of ``a``, if it is more than one."""

    a: End
    b: End
    shared: int = 1


def infer(
    tables: Mapping[int, Forwarding], owners: Mapping[int, tuple[int, int | None]], taken: Collection[int] = ()
) -> list[Inferred]:
    """The links that follow from forwarding tables.

    Parameters
    ----------
    tables : of each bridge, with ports as they are to be given back
    owners : MAC addresses that are known to be one device's, with its port where it is that port's own
    taken : ports of which it is known already where they lead
    """
    known, used = _Known(tables, owners), set(taken)
    found: list[Inferred] = []
    # With few devices behind a port the answer is quick and sure; its other end needs no look of its own then.
    for bridge, port, behind in sorted(known.ports(), key=lambda each: (len(each[2]), each[0], each[1])):
        if port in used or len(behind) > MOST_BEHIND:
            continue
        links = [each for each in _at_port(known, bridge, port, behind) if each.b.port not in used]
        found += links
        used |= {end.port for each in links for end in (each.a, each.b) if end.port is not None}
    return sorted(found, key=lambda each: (each.a.device, each.a.port or 0, each.b.device))


class _Known:
    """At which port each bridge hears each device, and where it looks for those that it does not hear."""

    def __init__(self, tables: Mapping[int, Forwarding], owners: Mapping[int, tuple[int, int | None]]) -> None:
        self.bridges = sorted(tables)
        self.tables = tables
        heard = sorted({device for device, _ in owners.values()} | set(tables))
        self.devices = np.array(heard, np.int64)
        self.place = {device: place for place, device in enumerate(heard)}
        self.row = {bridge: row for row, bridge in enumerate(self.bridges)}
        self.at = np.full((len(self.bridges), len(heard)), NONE, np.int64)
        """The port of a bridge at which it hears a device; NONE if it does not, or at several."""
        self.own_port: dict[tuple[int, int], int] = {}
        """Of a bridge and a device that it hears, the device's port whose address that is."""
        macs = np.array(sorted(owners), np.uint64)
        for bridge, table in tables.items():
            mine = table.rows[np.isin(table.rows["mac"], macs)]
            several = set()
            for mac, port in zip(mine["mac"].tolist(), mine["port"].tolist(), strict=True):
                device, own = owners[mac]
                if device == bridge:
                    continue
                row, place = self.row[bridge], self.place[device]
                if self.at[row, place] not in (NONE, port):
                    several.add(place)
                self.at[row, place] = port
                if own is not None:
                    self.own_port[bridge, device] = own
            self.at[self.row[bridge], list(several)] = NONE
        self._toward: dict[tuple[int, int], int] = {}

    def ports(self) -> Iterator[tuple[int, int, Numbers]]:
        """Each port of each bridge, with the places of the devices that are heard there."""
        for bridge in self.bridges:
            row = self.at[self.row[bridge]]
            for port in np.unique(row[row != NONE]).tolist():
                yield bridge, port, np.flatnonzero(row == port)

    def toward(self, here: int, there: int) -> int:
        """The port of a bridge that leads to another bridge; NONE if that cannot be told.

        A bridge that is not heard itself is where everything else is that it hears at its other ports.
        """
        if (here, there) not in self._toward:
            self._toward[here, there] = self._look_toward(here, there)
        return self._toward[here, there]

    def _look_toward(self, here: int, there: int) -> int:
        direct = int(self.at[self.row[here], self.place[there]])
        if direct != NONE:
            return direct
        from_there = int(self.at[self.row[there], self.place[here]])
        beyond, mine = self.tables[there].rows, self.tables[here].rows
        beyond = beyond[beyond["port"] != from_there] if from_there != NONE else beyond[:0]
        ports, counts = np.unique(mine["port"][np.isin(mine["mac"], beyond["mac"])], return_counts=True)
        return int(ports[counts.argmax()]) if len(ports) and counts.max() >= SURE * counts.sum() else NONE


def _at_port(known: _Known, bridge: int, port: int, behind: Numbers) -> list[Inferred]:
    """What is joined to a port of a bridge, of the devices that are heard there."""
    devices = known.devices[behind].tolist()
    # A bridge that is not heard itself may be between all the same.
    bridges = [each for each in known.bridges if each != bridge and known.toward(bridge, each) == port]
    direct = [each for each in devices if not any(_may_be_between(known, bridge, other, each) for other in bridges)]
    ends = []
    for device in direct:
        end = known.toward(device, bridge) if device in known.row else known.own_port.get((bridge, device), NONE)
        if device not in known.row or end != NONE or len(direct) == 1:
            ends.append(End(device, None if end == NONE else end))
    return [Inferred(End(bridge, port), end, len(ends)) for end in ends]


def _may_be_between(known: _Known, bridge: int, other: int, device: int) -> bool:
    """Whether another bridge at the same port may be between a bridge and a device."""
    if other == device:
        return False
    near = known.toward(other, bridge)
    hears = known.toward(other, device) if device in known.row else int(known.at[known.row[other], known.place[device]])
    if near != NONE and hears == near:
        return False
    if device not in known.row:
        return True
    # It is behind the device if that one hears it on its far side.
    back, far = known.toward(device, bridge), known.toward(device, other)
    return NONE in (back, far) or back == far
