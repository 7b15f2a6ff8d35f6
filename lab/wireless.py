"""Access points of the stand-in network and their clients, as the controller tells of them in tables of its maker's own."""

import zlib
from collections.abc import Mapping
from dataclasses import dataclass

from lab.bridging import WIRELESS, host_at, vlan_of
from lab.counting import number_of_clients
from lab.device import Device
from lab.mib import Column, table, text
from lab.scenario import ENTERPRISE, ETHERNET, Box, Port
from lumtar.wire import ber
from lumtar.wire.ber import oid_body

POINTS, CLIENTS = f"{ENTERPRISE}.4.1.1", f"{ENTERPRISE}.4.2.1"
TABLES: dict[str, str | int] = {
    "point_name": f"{POINTS}.2",
    "point_mac": f"{POINTS}.3",
    "point_address": f"{POINTS}.4",
    "point_state": f"{POINTS}.5",
    "point_up": 1,
    "point_model": f"{POINTS}.6",
    "client_point": f"{CLIENTS}.2",
    "client_network": f"{CLIENTS}.3",
    "client_signal": f"{CLIENTS}.4",
    "client_address": f"{CLIENTS}.5",
}
"""How a profile reads them; the MAC address of a client is its row's index."""
PUBLIC, STAFF = "Oskelund Public", "Oskelund Staff"
JOINED, NOT_JOINED = 1, 2
EVERY_S = 60.0
"""Clients come and go once a minute."""


@dataclass(frozen=True, slots=True)
class Point:
    """An access point at a port of a switch; ``number`` is its row."""

    number: int
    box: Box
    port: Port

    @property
    def mac(self) -> bytes:
        """As the switch hears it."""
        return host_at(self.box, self.port).mac.to_bytes(6, "big")


class Wireless:
    """All access points, and what the controller tells of them."""

    def __init__(self, devices: Mapping[str, Device]) -> None:
        self._devices = devices
        places = [
            (device.box, port)
            for device in devices.values()
            if device.box.family in ("acc", "core") and not device.box.is_new
            for port in device.box.ports
            if port.kind == ETHERNET and vlan_of(port, device.box.site) == WIRELESS and port.up
        ]
        self._points = [Point(number, *place) for number, place in enumerate(places, 1)]

    def is_joined(self, point: Point) -> bool:
        """Whether the controller hears an access point."""
        switch = self._devices[point.box.name]
        return (
            not switch.silent and switch.is_up(point.port.index, point.port.up) and switch.has_power(point.port.index)
        )

    def columns(self, controller: Device, at: float) -> list[Column]:
        """What the controller tells at an instant."""
        points = self._points
        numbers = [each.number for each in points]
        joined = [each for each in points if self.is_joined(each)]
        told = [
            table(POINTS, 2, numbers, [text(each.port.alias) for each in points]),
            table(POINTS, 3, numbers, [text(each.mac) for each in points]),
            table(POINTS, 4, numbers, [text(host_at(each.box, each.port).addresses[0]) for each in points]),
            table(POINTS, 5, numbers, [ber.integer(JOINED if each in joined else NOT_JOINED) for each in points]),
            table(POINTS, 6, numbers, [text("LG-A4 access point")] * len(points)),
        ]
        rows = sorted(
            (bytes((2, 2, *each.number.to_bytes(2, "big"), *k.to_bytes(2, "big"))), each, k)
            for each in joined
            for k in range(number_of_clients(controller.box, each.number, at))
        )
        indexes = [ber.subidentifiers(list(mac)) for mac, _, _ in rows]
        held = [self._at(point, k, at) for _, point, k in rows]

        def column(number: int, values: list[bytes]) -> Column:
            return Column(oid_body(f"{CLIENTS}.{number}"), indexes, lambda at: values)

        return [
            *told,
            column(2, [ber.integer(point.number) for point in held]),
            column(3, [text(STAFF if k % 4 == 0 else PUBLIC) for _, _, k in rows]),
            column(4, [ber.integer(_signal(mac, at)) for mac, _, _ in rows]),
            column(5, [text(bytes((10, 255, point.number, 10 + k))) for _, point, k in rows]),
        ]

    def _at(self, point: Point, k: int, at: float) -> Point:
        """Where a client is: the first one of an access point walks to the next one of its site and back, hour by hour."""
        if k or int(at / 3600) % 2 == 0:
            return point
        beside = [each for each in self._points if each.box.site == point.box.site and self.is_joined(each)]
        return beside[(beside.index(point) + 1) % len(beside)] if point in beside else point


def _signal(mac: bytes, at: float) -> int:
    """DBm: a place in the room, and a little restlessness."""
    return -45 - zlib.crc32(mac) % 30 - int(at / 600 + mac[-1]) % 3
