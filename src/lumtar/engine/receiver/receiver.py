"""The receiver as a service: it listens for traps and inform requests, believes those of known devices, and keeps what follows."""

import asyncio
import ipaddress
import os
import socket
import time
from collections import Counter, OrderedDict, deque
from typing import Any

import structlog

from lumtar.engine.receiver import senders
from lumtar.engine.receiver.keeping import Keeper, Taken
from lumtar.engine.receiver.senders import Sender, Senders
from lumtar.engine.service import AWAY, Service, with_database
from lumtar.wire import pdu
from lumtar.wire.ber import Malformed
from lumtar.wire.traps import LONGEST, Engines, Received, Refused, read_community

log = structlog.get_logger()
HOST, PORT = "127.0.0.1", 8477
RENEW_S = 5.0
"""Seconds after which devices and credentials are looked up again."""
GATHER_S = 0.2
"""Seconds within which notifications are kept together."""
MOST_WAITING = 20_000
"""Notifications that wait to be kept; more of them are dropped and counted."""
MOST_AT_ONCE = 2_000
MOST_STRANGERS = 20
"""Senders of what was not taken that are told of, the latest ones."""
RECEIVE_BUFFER = 4 << 20


class Receiver(Service):
    """Hears what devices send of their own accord."""

    kind = "receiver"

    def __init__(self, name: str = "") -> None:
        super().__init__(name)
        self.address = os.environ.get("LUMTAR_TRAP_HOST", HOST), int(os.environ.get("LUMTAR_TRAP_PORT", PORT))
        self._senders = Senders()
        self._engines = Engines()
        self._keeper = Keeper()
        self._waiting: deque[Taken] = deque()
        self._counted: Counter[str] = Counter()
        self._strangers: OrderedDict[str, dict[str, Any]] = OrderedDict()
        self._problem = ""

    async def prepare(self) -> None:
        """Learn who may send."""
        self._senders = await self.until_there(senders.load)

    async def work(self) -> None:
        """Listen and keep until cancelled."""
        try:
            await self.supervise_all(
                {
                    "listening for traps": self._listen,
                    "keeping traps": self._keep,
                    "devices and credentials": self._renew,
                }
            )
        finally:
            await asyncio.to_thread(with_database, self._keep_what_waits)

    def progress(self) -> dict[str, Any]:
        """What was heard since the start, and who sent what was not taken."""
        told: dict[str, Any] = {name: self._counted[name] for name in ("heard", "taken", "refused", "dropped")}
        return {**told, "listens_at": f"{self.address[0]} port {self.address[1]}", "strangers": self._told_strangers()}

    def _told_strangers(self) -> list[dict[str, Any]]:
        return [{"address": address, **each} for address, each in reversed(self._strangers.items())]

    def trouble(self) -> str:
        """Why it cannot listen, if it cannot."""
        return self._problem

    async def _listen(self) -> None:
        host, port = self.address
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        with socket.socket(family, socket.SOCK_DGRAM) as inlet:
            inlet.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, RECEIVE_BUFFER)
            if family == socket.AF_INET6:
                # One socket hears both families, where the machine has the other one.
                inlet.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
            inlet.setblocking(False)
            try:
                inlet.bind((host, port))
            except OSError as error:
                self._problem = f"it cannot listen for traps at {host} port {port}: {error.strerror}"
                raise
            self._problem = ""
            loop, done = asyncio.get_running_loop(), asyncio.Event()
            loop.add_reader(inlet, self._readable, inlet)
            try:
                await done.wait()
            finally:
                loop.remove_reader(inlet)

    def _readable(self, inlet: socket.socket) -> None:
        # A storm must not keep the loop from everything else.
        for _ in range(200):
            try:
                data, sender = inlet.recvfrom(LONGEST)
            except (BlockingIOError, InterruptedError):
                return
            self._counted["heard"] += 1
            if answer := self.hear(data, _plain(sender[0])):
                try:
                    inlet.sendto(answer, sender)
                except OSError as error:
                    log.info("an inform request could not be confirmed", address=sender[0], error=str(error))

    def hear(self, data: bytes, address: str) -> bytes:
        """Take one datagram. Returns what confirms it; empty if nothing does.

        Nobody is told why something was not taken: that would help only those who guess.
        """
        try:
            received = self._read(data)
            sender = self._senders.devices.get(address) or self._senders.devices.get(received.agent)
            if sender is None:
                raise Refused("the sender is not in the inventory")
            self._take(sender, received)
        except (Malformed, ValueError) as error:
            self._refuse(address, f"it cannot be understood: {error}")
            return b""
        except Refused as error:
            self._refuse(address, str(error))
            return b""
        return received.answer

    def _read(self, data: bytes) -> Received:
        version, _ = pdu.read_version(data)
        if version == pdu.VERSION_3:
            return self._engines.read(data, self._senders.users, time.monotonic())
        received = read_community(data)
        if received.community is None or not self._senders.knows(received.community):
            raise Refused("its community is none that devices are read with")
        return received

    def _take(self, sender: Sender, received: Received) -> None:
        if len(self._waiting) >= MOST_WAITING:
            self._counted["dropped"] += 1
            raise Refused("too many are waiting to be kept")
        self._counted["taken"] += 1
        self._waiting.append(Taken(sender, received.notification, time.time()))

    def _refuse(self, address: str, why: str) -> None:
        self._counted["refused"] += 1
        known = self._strangers.pop(address, {"times": 0})
        self._strangers[address] = {"times": known["times"] + 1, "why": why[:200], "at": time.time()}
        while len(self._strangers) > MOST_STRANGERS:
            self._strangers.popitem(last=False)

    async def _keep(self) -> None:
        while True:
            await asyncio.sleep(GATHER_S)
            if self._waiting:
                await asyncio.to_thread(with_database, self._keep_what_waits)

    def _keep_what_waits(self) -> None:
        while self._waiting:
            some = [self._waiting.popleft() for _ in range(min(MOST_AT_ONCE, len(self._waiting)))]
            try:
                self._keeper.keep(some)
            except AWAY:
                # They wait until the database is back.
                self._waiting.extendleft(reversed(some))
                raise

    async def _renew(self) -> None:
        while True:
            await asyncio.sleep(RENEW_S)
            self._senders = await asyncio.to_thread(with_database, senders.load)


def _plain(address: str) -> str:
    """An address of version 4 as such, though it came by a socket of version 6; without its zone."""
    known = ipaddress.ip_address(address.split("%")[0])
    mapped = known.ipv4_mapped if isinstance(known, ipaddress.IPv6Address) else None
    return str(mapped or known)
