"""Reflectors of STAMP at every branch's router: answers take as long as the way to it would, with queues where a link is full."""

from __future__ import annotations

import heapq
import itertools
import random
import select
import socket
import struct
import sys
import threading
import time
import zlib
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from lab.scenario import Box
from lumtar.wire import stamp
from lumtar.wire.ber import Malformed

if TYPE_CHECKING:
    from lab.device import Device

PORT = 8862
LINKS = {"wan1": ("Transport A", PORT), "wan2": ("Transport B", PORT + 1)}
"""Ports of a branch whose line is measured: what it is called, and where its reflector listens."""
CLASSES = {"voice": 46, "catalogue": 18, "copies": 10}
"""DSCP by the name of a service class."""
QUEUED = {46: 0.12, 18: 0.6, 10: 1.0}
"""How much of a queue a class waits for; others wait for all of it."""
HOME = "Depot"
"""Where the prober is."""
LONGEST_QUEUE_MS, LOAD_EVERY_S = 180.0, 5.0
RECEIVE_CLASS, SO_TIMESTAMPNS = 13, 35
"""Of Linux; Python has no names for them."""
TUNNEL_LOSS = 0.04
"""Of what goes over a link that is full."""


def is_measured(box: Box) -> bool:
    """Whether a box is the router of a branch with a reflector."""
    has_link = any(port.name in LINKS for port in box.ports)
    return box.family == "wan" and box.site not in (HOME, "Central") and has_link and not box.is_new


@dataclass(slots=True)
class Worse:
    """What somebody made worse on the way to a site, one direction or both."""

    delay_ms: float = 0.0
    jitter_ms: float = 0.0
    loss: float = 0.0
    reorder: float = 0.0
    duplicate: float = 0.0


@dataclass(frozen=True, slots=True)
class Way:
    """One direction of a way just now: what it takes at least, how much that varies, and which share is lost."""

    delay_ms: float
    jitter_ms: float
    loss: float


def way_to(site: str, load: float, dscp: int, worse: Worse = Worse()) -> Way:
    """One direction between the prober and a site, whose link is at a load of 0 to 1."""
    base = 2.5 + zlib.crc32(site.encode()) % 70 / 10
    busy = min(max(load, 0.0), 0.995)
    queue = QUEUED.get(dscp, 1.0) * min(LONGEST_QUEUE_MS, 1.2 * busy**4 / (1 - busy))
    loss = TUNNEL_LOSS * QUEUED.get(dscp, 1.0) if load > 0.995 else 0.00004
    return Way(base + queue + worse.delay_ms, 0.15 + 0.18 * queue + worse.jitter_ms, min(1.0, loss + worse.loss))


@dataclass(slots=True)
class End:
    """A site's reflector and its link: the rates of the last seconds, and what was made worse (out is towards the site)."""

    device: Device
    link: str
    socket: socket.socket
    load: tuple[float, float] = (0.2, 0.2)
    counted: tuple[float, float, float] | None = None
    is_up: bool = True
    worse: dict[str, Worse] = field(default_factory=lambda: {"out": Worse(), "back": Worse()})


class Reflectors:
    """All reflectors, in a thread of their own."""

    def __init__(self, devices: Mapping[str, Device]) -> None:
        self.ends: dict[str, End] = {}
        for device in devices.values():
            if is_measured(device.box):
                for port in device.box.ports:
                    if port.name in LINKS:
                        name, listens = LINKS[port.name]
                        end = End(device, port.name, _listening(device.box.address, listens))
                        self.ends[f"{device.box.site} {name}"] = end
                        # A site alone means its first line.
                        self.ends.setdefault(device.box.site, end)
        self._waiting: list[tuple[float, int, socket.socket, bytes, tuple[str, int]]] = []
        self._ties, self._luck = itertools.count(), random.Random(11)
        self._ending = threading.Event()
        # The default lets another thread compute for 5 ms before this one gets its turn, which is as long as a way takes.
        sys.setswitchinterval(0.0005)
        self._thread = threading.Thread(target=self._run, name="reflectors", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        by_number = {end.socket.fileno(): end for end in self.ends.values()}
        poller, looked = select.poll(), 0.0
        for number in by_number:
            poller.register(number, select.POLLIN)
        while not self._ending.is_set():
            now = time.time()
            if now - looked > LOAD_EVERY_S:
                looked = now
                for end in by_number.values():
                    _look(end, now)
            due = self._waiting[0][0] - time.monotonic() if self._waiting else 0.2
            for number, _ in poller.poll(1000 * max(0.0, min(due, 0.2))):
                self._receive(by_number[number])
            while self._waiting and self._waiting[0][0] <= time.monotonic():
                _, _, outlet, data, to = heapq.heappop(self._waiting)
                with suppress(OSError):
                    outlet.sendto(data, to)

    def _receive(self, end: End) -> None:
        with suppress(BlockingIOError):
            while True:
                data, ancillary, _, sender = end.socket.recvmsg(9100, 256)
                if end.device.silent or not end.is_up:
                    continue
                told = {(level, name): value for level, name, value in ancillary}
                dscp = told.get((socket.IPPROTO_IP, socket.IP_TOS), b"\0")[0] >> 2
                # The agents of all devices run beside this thread: the way begins when the kernel had the packet, not when it is looked at.
                now_ns, stamp_of = time.time_ns(), told.get((socket.SOL_SOCKET, SO_TIMESTAMPNS))
                seconds, more = struct.unpack("qq", stamp_of) if stamp_of else divmod(now_ns, 10**9)
                came_ns = seconds * 10**9 + more
                self._answer(end, data, sender, dscp, time.monotonic() - (now_ns - came_ns) / 1e9, came_ns)

    def _answer(self, end: End, data: bytes, sender: tuple[str, int], dscp: int, at: float, now_ns: int) -> None:
        site, luck = end.device.box.site, self._luck
        out, back = (
            way_to(site, load, dscp, end.worse[name]) for name, load in zip(("out", "back"), end.load, strict=True)
        )
        if luck.random() < out.loss or luck.random() < back.loss:
            return
        there, again = (way.delay_ms + way.jitter_ms * luck.expovariate(1.0) for way in (out, back))
        if luck.random() < end.worse["out"].reorder + end.worse["back"].reorder:
            again += 1500
        reached_ns = now_ns + round(there * 1e6)
        with suppress(Malformed):
            answer = stamp.reflected(
                data, reached_ns, reached_ns + 20_000, stamp.error_estimate(0.0005, is_synchronised=True), 250
            )
            copies = 2 if luck.random() < end.worse["out"].duplicate + end.worse["back"].duplicate else 1
            for copy in range(copies):
                due = at + (there + again + 3 * copy) / 1000
                heapq.heappush(self._waiting, (due, next(self._ties), end.socket, answer, sender))

    def close(self) -> None:
        """Stop."""
        self._ending.set()
        self._thread.join(2.0)
        for end in self.ends.values():
            end.socket.close()


def _listening(address: str, port: int) -> socket.socket:
    made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    made.setsockopt(socket.IPPROTO_IP, RECEIVE_CLASS, 1)
    made.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
    made.setblocking(False)
    made.bind((address, port))
    return made


def _look(end: End, now: float) -> None:
    """The load of a branch's first link since the last look: what leaves the branch, and what comes to it."""
    device = end.device
    row = next(place for place, port in enumerate(device.box.ports) if port.name == end.link)
    port = device.box.ports[row]
    end.is_up = device.is_up(port.index, port.up)
    told = device.counters(now)[row]
    before, end.counted = end.counted, (now, float(told[0]), float(told[1]))
    if before is None or now <= before[0]:
        return
    speeds = port.sold_bps or (port.speed_bps, port.speed_bps)
    rates = [8 * max(0.0, told[way] - before[1 + way]) / (now - before[0]) for way in (0, 1)]
    end.load = (rates[0] / speeds[0], rates[1] / speeds[1])
