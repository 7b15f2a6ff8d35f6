"""Reading the tests that devices make themselves (DISMAN-PING-MIB, RFC 4560), beside the polls: which there are, and their probes."""

import asyncio
import time
from collections.abc import Mapping, Sequence
from ipaddress import ip_address

import numpy as np
import structlog

from lumtar.core.paths.device_tests import DeviceProbe, DeviceTest, Following, told_time
from lumtar.core.paths.kinds import told_test
from lumtar.core.paths.statistics import summary
from lumtar.core.text import clean
from lumtar.domain.operation.services import announce
from lumtar.domain.paths import device_tests, store
from lumtar.domain.paths.models import Path
from lumtar.engine.collector.targets import Target, locate, open_session
from lumtar.engine.service import AWAY, with_database
from lumtar.wire import ber
from lumtar.wire.faults import Fault
from lumtar.wire.pdu import Value
from lumtar.wire.session import Patience, Session
from lumtar.wire.tables import read_columns
from lumtar.wire.transport import Transport

log = structlog.get_logger()
CONTROL, HISTORY = "1.3.6.1.2.1.80.1.2.1", "1.3.6.1.2.1.80.1.4.1"
ADDRESS_TYPE, ADDRESS, REMEMBERS = (ber.oid_body(f"{CONTROL}.{number}") for number in (3, 4, 11))
RESPONSE, STATUS, TIME = (ber.oid_body(f"{HISTORY}.{number}") for number in (2, 3, 5))
MOST_TESTS, MOST_PROBES = 500, 5_000
EVERY_S = 20.0
AT_ONCE = 16
"""Devices that are asked side by side."""
PATIENCE = Patience(timeout=3.0, tries=2)
DNS_NAME = 16
"""InetAddressType (RFC 4001)."""


async def read_tests(session: Session) -> list[DeviceTest]:
    """The tests that a device has.

    Raises
    ------
    Fault
    """
    kinds, targets, rows = await read_columns(session, [ADDRESS_TYPE, ADDRESS, REMEMBERS], most=MOST_TESTS)
    of_kind, remembers = kinds.by_index(), rows.by_index()
    found = []
    for index, target in targets.by_index().items():
        names = _names(index)
        if names is not None:
            kept = remembers.get(index)
            shown = _address(of_kind.get(index), target)
            found.append(DeviceTest(*names, shown, kept if isinstance(kept, int) else 0))
    return sorted(found, key=lambda test: (test.owner, test.name))


def _names(index: tuple[int, ...]) -> tuple[str, str] | None:
    """Owner and name of a test, each of which is preceded by its length; None if the index is not made of these."""
    if not index or len(index) < index[0] + 2 or len(index) != index[0] + 2 + index[index[0] + 1]:
        return None
    owner, name = index[1 : index[0] + 1], index[index[0] + 2 :]
    try:
        return clean(bytes(owner)), clean(bytes(name))
    except ValueError:
        return None


def _address(kind: Value | None, octets: Value) -> str:
    if not isinstance(octets, bytes):
        return ""
    if kind == DNS_NAME or len(octets) not in (4, 16):
        return clean(octets)
    return str(ip_address(octets))


async def read_history(session: Session, owner: str, name: str) -> list[DeviceProbe]:
    """What a device remembers of a test's probes, in the order of their numbers.

    Raises
    ------
    Fault
    """
    words = [word.encode() for word in (owner, name)]
    index = ber.subidentifiers([number for word in words for number in (len(word), *word)])
    columns = await read_columns(session, [column + index for column in (RESPONSE, STATUS, TIME)], most=MOST_PROBES)
    response, status, at = (column.by_index() for column in columns)
    found = []
    for row, code in sorted(status.items()):
        ms, told = response.get(row), at.get(row)
        if len(row) == 1 and isinstance(code, int):
            known = told_time(told) if isinstance(told, bytes) else None
            found.append(DeviceProbe(row[0], code, ms if isinstance(ms, int) else 0, known))
    return found


class DeviceTests:
    """Follows the tests of devices until cancelled."""

    def __init__(self, targets: Mapping[int, Target], transport: Transport) -> None:
        self._targets, self._transport = targets, transport
        self._followed: dict[int, Following] = {}
        self._jitter: dict[int, float] = {}

    async def run(self) -> None:
        """Look at all of them, again and again."""
        while True:
            by_device = await asyncio.to_thread(with_database, device_tests.wanted)
            mine = {number: rows for number, rows in by_device.items() if number in self._targets}
            self._followed = {
                row.pk: self._followed[row.pk] for rows in mine.values() for row in rows if row.pk in self._followed
            }
            room = asyncio.Semaphore(AT_ONCE)
            await asyncio.gather(*(self._look(self._targets[number], rows, room) for number, rows in mine.items()))
            await asyncio.sleep(EVERY_S)

    async def _look(self, target: Target, rows: Sequence[Path], room: asyncio.Semaphore) -> None:
        """Read what a device remembers of some tests, and keep the intervals that have closed."""
        async with room:
            problems = await self._read_all(target, rows)
        try:
            await asyncio.to_thread(with_database, lambda: self._keep(rows, problems))
        except AWAY as error:
            log.warning("tests of a device could not be kept", device=target.device.name, error=str(error))
            for row in rows:
                # They are read again from where the database is.
                self._followed.pop(row.pk, None)

    async def _read_all(self, target: Target, rows: Sequence[Path]) -> dict[int, str]:
        """Read some tests of a device. Returns what is wrong with each."""
        problems: dict[int, str] = {}
        try:
            await locate(target)
            session = open_session(target, self._transport, PATIENCE)
            for row in rows:
                problems[row.pk] = await self._read(session, row)
        except Fault as fault:
            problems |= {row.pk: f"{target.device.name}: {fault.words}" for row in rows if row.pk not in problems}
        return problems

    async def _read(self, session: Session, row: Path) -> str:
        history = await read_history(session, *told_test(row.asked))
        followed = self._followed.get(row.pk)
        if followed is None:
            until = await asyncio.to_thread(with_database, lambda: device_tests.stored_until(row))
            followed = self._followed[row.pk] = Following(row.told_number, until)
        followed.take(history, time.time())
        if not history:
            return "the device remembers no probes of this test: has it begun, and is its pingCtlMaxRows above 0?"
        return followed.reason

    def _keep(self, rows: Sequence[Path], problems: Mapping[int, str]) -> None:
        now, made, numbers = time.time(), [], {}
        for row in rows:
            followed = self._followed.get(row.pk)
            if followed is None:
                continue
            for begin, answers in followed.closed(now):
                told = summary(answers, self._jitter.get(row.pk, np.nan))
                self._jitter[row.pk] = told.jitter
                made.append(store.row_of(row.pk, begin, told))
            numbers[row.pk] = followed.taken_until
        device_tests.keep(rows, np.array(made, store.ROW), numbers, problems)
        if made:
            announce("paths")
