"""Tests that a stand-in router makes itself: DISMAN-PING-MIB (RFC 4560), with a memory of its last probes."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import UTC, datetime
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

from lab.mib import Column, text
from lab.paths import way_to
from lumtar.wire import ber
from lumtar.wire.ber import oid_body

if TYPE_CHECKING:
    from lab.device import Device

CONTROL, HISTORY = "1.3.6.1.2.1.80.1.2.1", "1.3.6.1.2.1.80.1.4.1"
OWNER, EVERY_S, REMEMBERS = "network", 5.0, 50
VOICE = 46
TESTS = {"dep-wan-1": {"voice Hexwater": "10.9.0.1", "voice Saltby": "10.19.0.1", "voice Dunmere": "10.5.0.1"}}
"""By router, the names of its tests and whom they ask."""
RECEIVED, TIMED_OUT = 1, 4
LOST = 0.002


class Remembered(Column):
    """A column of the history of one test: rows come and go with time."""

    def __init__(self, prefix: bytes, newest: Callable[[], int], value: Callable[[int], bytes]) -> None:
        self.prefix, self._newest, self._value = prefix, newest, value
        self._numbers: list[int] = []

    @property
    def indexes(self) -> list[bytes]:  # type: ignore[override]
        """Numbers of the probes that are remembered just now."""
        last = self._newest()
        self._numbers = list(range(max(1, last - REMEMBERS + 1), last + 1))
        return [ber.subidentifiers([number]) for number in self._numbers]

    def values(self, at: float) -> list[bytes]:
        """What is remembered of those whose numbers were given last."""
        return [self._value(number) for number in self._numbers]


def columns(device: Device) -> list[Column]:
    """Its tests, and what it remembers of each."""
    # In the order of their indexes, in which the length of a name comes before it.
    tests = dict(sorted(TESTS.get(device.box.name, {}).items(), key=lambda test: (len(test[0]), test[0])))
    if not tests:
        return []
    indexes = [_index(name) for name in tests]

    def of_tests(number: int, values: list[bytes]) -> Column:
        return Column(oid_body(f"{CONTROL}.{number}"), indexes, lambda at: values)

    made = [
        of_tests(3, [ber.integer(1)] * len(tests)),
        of_tests(4, [text(IPv4Address(address).packed) for address in tests.values()]),
        of_tests(11, [ber.integer(REMEMBERS, ber.GAUGE32)] * len(tests)),
    ]
    for name, index in zip(tests, indexes, strict=True):
        for column, value in ((2, _ms(name)), (3, _status(name)), (5, _time(device))):
            made.append(Remembered(oid_body(f"{HISTORY}.{column}") + index, lambda: _newest(device), value))
    return made


def _newest(device: Device) -> int:
    return int((device.clock() - device.boot(device.clock())) // EVERY_S)


def _index(name: str) -> bytes:
    return ber.subidentifiers([number for word in (OWNER, name) for number in (len(word), *word.encode())])


def _ms(name: str) -> Callable[[int], bytes]:
    way = way_to(name.rpartition(" ")[2], 0.3, VOICE)
    return lambda number: ber.integer(
        round(2 * way.delay_ms + random.Random(f"{name} {number}").expovariate(1 / (1 + way.jitter_ms))), ber.GAUGE32
    )


def _status(name: str) -> Callable[[int], bytes]:
    return lambda number: ber.integer(TIMED_OUT if random.Random(f"{number} {name}").random() < LOST else RECEIVED)


def _time(device: Device) -> Callable[[int], bytes]:
    def at(number: int) -> bytes:
        when = datetime.fromtimestamp(device.boot(device.clock()) + number * EVERY_S, UTC)
        head = when.year.to_bytes(2) + bytes((when.month, when.day, when.hour, when.minute, when.second))
        return text(head + bytes((when.microsecond // 100_000, ord("+"), 0, 0)))

    return at
