"""What a stand-in device shows of itself beside its ports: processors, memory, sensors, supplies, power, own objects."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

from lab import ping_tests
from lab.counting import (
    FLASH_KIB,
    FLASH_USED_KIB,
    MEMORY_KIB,
    memory_used_kib,
    number_of_clients,
    processor_load,
    sensor_tenths,
    sway,
)
from lab.mib import Column, scalar, table, text
from lab.scenario import ENTERPRISE, ETHERNET, MODELS, Port
from lumtar.wire import ber

if TYPE_CHECKING:
    from lab.device import Device

SUPPLIES = {"core": 2, "fw": 2, "wan": 1, "acc": 1, "fs": 2, "wlc": 1}
FANS = {"core": 3, "fw": 2, "acc": 1, "fs": 2}


def columns(device: Device) -> list[Column]:
    """All columns of a device's equipment."""
    makers = (_processors, _entities, _storage, _power, _own_objects, ping_tests.columns)
    return [column for of_device in makers for column in of_device(device)]


def _own_objects(device: Device) -> list[Column]:
    """What a maker shows beneath its own number: a battery, sessions, clients of access points."""
    own = f"{ENTERPRISE}.2.{MODELS[device.box.family][2]}"

    def sessions(at: float) -> float:
        """Begun since the start: the integral of 40 a second, swaying by a tenth within ten minutes."""
        began, turn = device.boot(at), 2 * math.pi / 600
        return 40 * (at - began) + 4 / turn * (math.cos(turn * began) - math.cos(turn * at))

    if device.box.family == "ups":
        return [
            scalar(f"{own}.1", lambda at: [ber.integer(round(92 + 8 * sway(device.box, at, 86400)), ber.GAUGE32)]),
            scalar(f"{own}.2", lambda at: [text(f"{38 + 6 * sway(device.box, at, 7200):.1f} min")]),
        ]
    if device.box.family == "fw":
        return _firewall(device, own, sessions)
    if device.box.family == "wlc":
        points = list(range(1, 7))
        return [
            table(
                own,
                1,
                points,
                lambda at: [ber.integer(number_of_clients(device.box, point, at), ber.GAUGE32) for point in points],
            )
        ]
    return []


SESSIONS_AT_MOST = 8000
OFFICES = ("County hall", "Film depot", "Home workers")
"""Where the tunnels of a firewall lead to."""
RENEWED_S = 3600
"""Keys of a tunnel are renewed once an hour."""


def _firewall(device: Device, own: str, sessions: Callable[[float], float]) -> list[Column]:
    """Sessions and their limit, threats, drops, the state within the pair, and tunnels to offices."""
    numbers = list(range(1, len(OFFICES) + 1))
    is_active = device.box.name.startswith("cen")

    def since(at: float) -> float:
        return at - device.boot(at)

    def used(at: float) -> list[bytes]:
        return [ber.integer(round(2400 + 900 * sway(device.box, at, 86400)), ber.GAUGE32)]

    def counter(per_second: float) -> Callable[[float], list[bytes]]:
        return lambda at: [ber.integer(int(since(at) * per_second), ber.COUNTER64)]

    def of_tunnels(per_second: float) -> Callable[[float], list[bytes]]:
        return lambda at: [ber.integer(int(since(at) * per_second * number), ber.COUNTER64) for number in numbers]

    def up(at: float) -> list[bytes]:
        return [ber.integer(2 if number in device.manners.tunnels_down else 1) for number in numbers]

    def ages(at: float) -> list[bytes]:
        return [ber.integer(int((since(at) + 700 * number) % 86400), ber.GAUGE32) for number in numbers]

    return [
        scalar(f"{own}.1", used),
        scalar(f"{own}.2", lambda at: [ber.integer(int(sessions(at)) % 2**32, ber.COUNTER32)]),
        scalar(f"{own}.3", lambda at: [ber.integer(SESSIONS_AT_MOST, ber.GAUGE32)]),
        scalar(f"{own}.4", counter(0.05)),
        scalar(f"{own}.5", counter(3.0)),
        scalar(f"{own}.6", lambda at: [ber.integer(4 if device.manners.pair_broken else 1 if is_active else 2)]),
        table(f"{own}.7.1", 2, numbers, [text(name) for name in OFFICES]),
        table(f"{own}.7.1", 3, numbers, up),
        table(f"{own}.7.1", 4, numbers, ages),
        table(f"{own}.7.1", 5, numbers, of_tunnels(1 / RENEWED_S)),
        table(f"{own}.7.1", 6, numbers, of_tunnels(90_000)),
        table(f"{own}.7.1", 7, numbers, of_tunnels(40_000)),
    ]


def _processors(device: Device) -> list[Column]:
    numbers = list(range(1, device.box.processors + 1))

    def load(at: float) -> list[bytes]:
        return [
            ber.integer(processor_load(device.box, number, device.epoch, at, device.incidents)) for number in numbers
        ]

    return [table("1.3.6.1.2.1.25.3.3.1", 2, numbers, load)]


def _storage(device: Device) -> list[Column]:
    """Memory and a flash disk."""
    storage = "1.3.6.1.2.1.25.2.3.1"
    kinds = [ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(f"1.3.6.1.2.1.25.2.1.{kind}")) for kind in (2, 9)]

    def used(at: float) -> list[bytes]:
        return [ber.integer(memory_used_kib(device.box, at)), ber.integer(FLASH_USED_KIB)]

    return [
        table(storage, 2, [1, 2], kinds),
        table(storage, 3, [1, 2], [text("Memory"), text("Flash")]),
        table(storage, 4, [1, 2], [ber.integer(1024)] * 2),
        table(storage, 5, [1, 2], [ber.integer(MEMORY_KIB), ber.integer(FLASH_KIB)]),
        table(storage, 6, [1, 2], used),
    ]


def _power(device: Device) -> list[Column]:
    """Power over Ethernet of access switches: ports that are up may take some."""
    if device.box.family != "acc":
        return []
    wired = [port for port in device.box.ports if port.kind == ETHERNET]

    def takes(port: Port) -> bool:
        is_consumer = "-ap-" in port.alias or port.index % 3 == 0
        return device.is_up(port.index, port.up) and is_consumer and device.has_power(port.index)

    def ports(at: float) -> list[bytes]:
        return [ber.integer(3 if takes(port) else 2 if device.has_power(port.index) else 1) for port in wired]

    def enabled(at: float) -> list[bytes]:
        return [ber.integer(1 if device.has_power(port.index) else 2) for port in wired]

    def watts(at: float) -> list[bytes]:
        return [ber.integer(round(sum(6.4 for port in wired if takes(port))), ber.GAUGE32)]

    entry = "1.3.6.1.2.1.105.1.1.1"
    indexes = [ber.subidentifiers([1, port.index]) for port in wired]
    return [
        Column(ber.oid_body(f"{entry}.3"), indexes, enabled),
        Column(ber.oid_body(f"{entry}.6"), indexes, ports),
        table("1.3.6.1.2.1.105.1.3.1.1", 2, [1], [ber.integer(370, ber.GAUGE32)]),
        table("1.3.6.1.2.1.105.1.3.1.1", 4, [1], watts),
    ]


def _entities(device: Device) -> list[Column]:
    maker, model, _ = MODELS[device.box.family]
    physical, sensor = "1.3.6.1.2.1.47.1.1.1.1", "1.3.6.1.2.1.99.1.1.1"
    sensors = ["chassis", *(name for name, _, _ in device.box.sensors)]
    supplies = [f"Power supply {number}" for number in range(1, SUPPLIES.get(device.box.family, 0) + 1)]
    fans = [f"Fan {number}" for number in range(1, FANS.get(device.box.family, 0) + 1)]
    names = [*sensors, *supplies, *fans]
    indexes = [*range(1, len(sensors) + 1), *range(101, 101 + len(supplies)), *range(201, 201 + len(fans))]
    only_chassis = [""] * (len(names) - 1)

    def of_entities(number: int, values: list[bytes]) -> Column:
        return table(physical, number, indexes, values)

    kinds = [8 if "emperature" in name else 1 for name in sensors[1:]]
    count = len(kinds)

    def readings(at: float) -> list[bytes]:
        return [ber.integer(sensor_tenths(device.box, number, at)) for number in range(count)]

    return [
        of_entities(2, [text(model), *(text(name) for name in names[1:])]),
        of_entities(5, [ber.integer(kind) for kind in (3, *[8] * count, *[6] * len(supplies), *[7] * len(fans))]),
        table("1.3.6.1.2.1.131.1.1.1", 3, indexes[1 + count :], [ber.integer(3)] * (len(supplies) + len(fans))),
        of_entities(7, [text(name) for name in names]),
        of_entities(10, [text(value) for value in ["4.2.1", *only_chassis]]),
        of_entities(11, [text(value) for value in [f"{device.box.seed:08X}", *only_chassis]]),
        of_entities(12, [text(value) for value in [maker, *only_chassis]]),
        of_entities(13, [text(value) for value in [model, *only_chassis]]),
        table(sensor, 1, indexes[1 : 1 + count], [ber.integer(kind) for kind in kinds]),
        table(sensor, 2, indexes[1 : 1 + count], [ber.integer(9)] * count),
        table(sensor, 3, indexes[1 : 1 + count], [ber.integer(1)] * count),
        table(sensor, 4, indexes[1 : 1 + count], readings),
        table(sensor, 5, indexes[1 : 1 + count], [ber.integer(1)] * count),
    ]
