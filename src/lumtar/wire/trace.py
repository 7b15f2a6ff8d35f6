"""The route to an address, hop by hop: datagrams whose time to live ends on the way, and the ICMP errors that tell where (RFC 792, RFC 4443).

The kernel gives these errors to the socket that sent the datagram (IP_RECVERR), so no rights are needed. All datagrams of a trace have the same
addresses and ports, one after another, so that whoever shares load among links by these sends all of them the same way.
"""

import asyncio
import ipaddress
import socket
import time
from dataclasses import dataclass

from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.ip_options import EXTENDED_ERROR, RECEIVE_ERRORS, TIME_TO_LIVE, TRAFFIC_CLASS, family_of

PORT = 33434
"""Where nothing listens, by custom."""
MOST_HOPS, MOST_SILENT = 30, 4
"""Hops at most; so many without an answer in a row end a trace."""
TIMEOUT_S = 1.0
FROM_ICMP, FROM_ICMP6 = 2, 3
TIME_EXCEEDED = {FROM_ICMP: 11, FROM_ICMP6: 3}


@dataclass(frozen=True, slots=True)
class Hop:
    """A hop: its address and how long it took to answer, milliseconds; without an address it did not answer."""

    address: str
    ms: float | None


@dataclass(frozen=True, slots=True)
class Told:
    """An ICMP error: who sent it, and whether the datagram had only come to the end of its time to live."""

    sender: str
    is_on_the_way: bool


def understood(ancillary: list[tuple[int, int, bytes]]) -> Told | None:
    """The ICMP error in what comes with an error queue; None if there is none."""
    for level, kind, data in ancillary:
        if (level, kind) not in RECEIVE_ERRORS.values() or len(data) < EXTENDED_ERROR.size:
            continue
        _, origin, type_, _, _, _, _ = EXTENDED_ERROR.unpack_from(data)
        sender = data[EXTENDED_ERROR.size :]
        if origin == FROM_ICMP and len(sender) >= 8:
            return Told(str(ipaddress.IPv4Address(sender[4:8])), type_ == TIME_EXCEEDED[origin])
        if origin == FROM_ICMP6 and len(sender) >= 24:
            return Told(str(ipaddress.IPv6Address(sender[8:24])), type_ == TIME_EXCEEDED[origin])
    return None


async def trace(address: str, traffic_class: int = 0) -> list[Hop]:
    """The hops to an address, the address itself last if it answers.

    Raises
    ------
    Fault
        UNREACHABLE, if nothing can be sent there
    """
    family = family_of(address)
    found: list[Hop] = []
    with socket.socket(family, socket.SOCK_DGRAM) as outlet:
        outlet.setblocking(False)
        outlet.setsockopt(*RECEIVE_ERRORS[family], 1)
        outlet.setsockopt(*TRAFFIC_CLASS[family], traffic_class)
        try:
            outlet.connect((address, PORT))
            for hops in range(1, MOST_HOPS + 1):
                outlet.setsockopt(*TIME_TO_LIVE[family], hops)
                hop, is_last = await _ask(outlet)
                found.append(hop)
                if is_last or (all(not each.address for each in found[-MOST_SILENT:]) and len(found) >= MOST_SILENT):
                    break
        except OSError as error:
            raise Fault(FaultKind.UNREACHABLE, f"cannot be reached from here ({error.strerror})") from error
    while found and not found[-1].address:
        found.pop()
    return found


async def _ask(outlet: socket.socket) -> tuple[Hop, bool]:
    """Send one datagram, and wait for what becomes of it; whether it reached its end."""
    loop, arrived = asyncio.get_running_loop(), asyncio.Event()
    # An error makes a socket readable; what is read then is the error itself, or nothing.
    loop.add_reader(outlet, arrived.set)
    try:
        since = time.perf_counter()
        await _send(outlet)
        async with asyncio.timeout(TIMEOUT_S):
            while True:
                await arrived.wait()
                arrived.clear()
                if (told := _error(outlet)) is not None:
                    took = (time.perf_counter() - since) * 1000
                    return Hop(told.sender, round(took, 3)), not told.is_on_the_way
                if _answered(outlet):
                    return Hop(str(outlet.getpeername()[0]), round((time.perf_counter() - since) * 1000, 3)), True
    except TimeoutError:
        return Hop("", None), False
    finally:
        loop.remove_reader(outlet)


async def _send(outlet: socket.socket) -> None:
    for _ in range(3):
        try:
            outlet.send(bytes(12))
        except ConnectionRefusedError:
            # What became of the datagram before is told instead; this one was not sent.
            continue
        return


def _error(outlet: socket.socket) -> Told | None:
    try:
        _, ancillary, _, _ = outlet.recvmsg(512, 512, socket.MSG_ERRQUEUE)
    except OSError:
        return None
    return understood(ancillary)


def _answered(outlet: socket.socket) -> bool:
    """Whether somebody listens at the far end and answered."""
    try:
        outlet.recv(512)
    except OSError:
        return False
    return True
