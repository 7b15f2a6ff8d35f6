"""What a stand-in device tells of its ports: the interface tables (RFC 2863) and Ethernet's (RFC 3635)."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from lab.mib import Column, table, text
from lab.scenario import ETHERNET, Box, Port, said_of
from lumtar.wire import ber

if TYPE_CHECKING:
    from lab.device import Device

IF, IFX, DOT3 = "1.3.6.1.2.1.2.2.1", "1.3.6.1.2.1.31.1.1.1", "1.3.6.1.2.1.10.7.2.1"
FULL_DUPLEX, HALF_DUPLEX = 3, 2
COUNTERS_32 = {10: 12, 11: 14, 12: 15, 13: 10, 14: 8, 16: 13, 17: 16, 18: 17, 19: 11, 20: 9}
"""Columns of ifTable, and which of the device's counters each of them tells."""
COUNTERS_64 = {6: 0, 7: 2, 8: 3, 9: 4, 10: 1, 11: 5, 12: 6, 13: 7}
"""The same of ifXTable."""


def mac_of(box: Box, port: Port) -> bytes:
    """A port's own MAC address."""
    return bytes((2, 0, box.seed >> 16 & 255, box.seed >> 8 & 255, box.seed & 255, port.index & 255))


def columns(device: Device) -> list[Column]:
    """All columns of a device's ports."""
    everyone = range(len(device.box.ports))
    wide = [row for row, port in enumerate(device.box.ports) if port.wide]
    wired = [row for row, port in enumerate(device.box.ports) if port.kind == ETHERNET]
    return [
        *_described(device),
        *_states(device),
        *(_counted(device, IF, number, place, everyone) for number, place in COUNTERS_32.items()),
        *(_counted(device, IFX, number, place, wide) for number, place in COUNTERS_64.items()),
        *_ethernet(device, wired),
    ]


def _described(device: Device) -> list[Column]:
    ports = device.box.ports
    indexes = [port.index for port in ports]
    said = {port.index: said_of(device.box.family, port) for port in ports}
    constant = {
        (IF, 1): [ber.integer(port.index) for port in ports],
        (IF, 2): [text(said[each]["descr"]) for each in indexes],
        (IF, 3): [ber.integer(port.kind) for port in ports],
        (IF, 5): [ber.integer(min(port.speed_bps, 2**32 - 1), ber.GAUGE32) for port in ports],
        (IF, 6): [text(mac_of(device.box, port)) for port in ports],
        (IFX, 1): [text(said[each]["name"]) for each in indexes],
        (IFX, 15): [ber.integer(round(port.speed_bps / 1e6), ber.GAUGE32) for port in ports],
        (IFX, 19): [ber.integer(0, ber.TIME_TICKS)] * len(ports),
    }

    def aliases(at: float) -> list[bytes]:
        return [text(device.described.get(each, said[each]["alias"])) for each in indexes]

    return [
        *(table(entry, number, indexes, values) for (entry, number), values in constant.items()),
        table(IFX, 18, indexes, aliases),
    ]


def _states(device: Device) -> list[Column]:
    ports = device.box.ports

    def column(number: int, of: Callable[[Port, float], bytes]) -> Column:
        return table(IF, number, [port.index for port in ports], lambda at: [of(port, at) for port in ports])

    def changed(port: Port, at: float) -> bytes:
        return ber.integer(max(0, int((device.changed_at(port.index) - device.boot(at)) * 100)), ber.TIME_TICKS)

    return [
        column(7, lambda port, at: ber.integer(2 if device.is_off(port.index) else 1)),
        column(8, lambda port, at: ber.integer(1 if device.is_up(port.index, port.up) else 2)),
        column(9, changed),
    ]


def _counted(device: Device, entry: str, number: int, place: int, rows: Sequence[int]) -> Column:
    """A column of counters of some ports: ``place`` is that among the device's counters."""
    ports = device.box.ports
    indexes = [ports[row].index for row in rows]
    if len(rows) == len(ports):
        return table(entry, number, indexes, lambda at: device.encoded(at)[place])
    return table(entry, number, indexes, lambda at: [device.encoded(at)[place][row] for row in rows])


def _ethernet(device: Device, wired: Sequence[int]) -> list[Column]:
    indexes = [device.box.ports[row].index for row in wired]
    none = [ber.integer(0)] * len(wired)

    def duplex(at: float) -> list[bytes]:
        return [ber.integer(HALF_DUPLEX if device.is_half(each) else FULL_DUPLEX) for each in indexes]

    return [
        _counted(device, DOT3, 3, 8, wired),
        *(table(DOT3, number, indexes, none) for number in (2, 8)),
        table(DOT3, 19, indexes, duplex),
    ]
