"""Capturing packets at an interface of this machine: a packet socket with a filter that libpcap compiled."""

import ctypes
import ctypes.util
import select
import socket
import struct
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from lumtar.core.pcapng import ETHERNET, RAW_IP
from lumtar.core.refusal import Refusal

ETH_P_ALL, SO_ATTACH_FILTER = 0x0003, 26
SO_TIMESTAMPNS, PACKET_STATISTICS, SOL_PACKET = 35, 6, 263
OUTGOING = 4
HEADERS = {1: ETHERNET, 772: ETHERNET, 65534: RAW_IP}
"""By the type of an interface (ARPHRD), what its packets begin with."""
LOOK_S = 0.2
LONGEST = 65_535


class _Instruction(ctypes.Structure):
    _fields_ = (("code", ctypes.c_ushort), ("jt", ctypes.c_ubyte), ("jf", ctypes.c_ubyte), ("k", ctypes.c_uint32))


class _Program(ctypes.Structure):
    _fields_ = (("length", ctypes.c_uint), ("instructions", ctypes.POINTER(_Instruction)))


@dataclass(frozen=True, slots=True)
class Packet:
    """A packet: when it came (nanoseconds of the epoch), what was kept of it, and how long it was."""

    at_ns: int
    data: bytes
    length: int


def compiled(text: str, link: int = ETHERNET) -> bytes:
    """A filter in libpcap's words, as the kernel takes it; an empty one lets everything pass.

    Raises
    ------
    Refusal
        with what is wrong with it
    """
    if not text.strip():
        return b""
    name = ctypes.util.find_library("pcap")
    if name is None:
        raise Refusal(
            "Filters need the library libpcap where the collector runs: install the package libpcap0.8.", "filter"
        )
    library = ctypes.CDLL(name)
    library.pcap_open_dead.restype = ctypes.c_void_p
    library.pcap_geterr.restype = ctypes.c_char_p
    for function in (library.pcap_geterr, library.pcap_close):
        function.argtypes = (ctypes.c_void_p,)
    library.pcap_compile.argtypes = (
        ctypes.c_void_p, ctypes.POINTER(_Program), ctypes.c_char_p, ctypes.c_int, ctypes.c_uint32,
    )  # fmt: skip
    handle, program = library.pcap_open_dead(link, LONGEST), _Program()
    try:
        if library.pcap_compile(handle, ctypes.byref(program), text.encode(), 1, 0xFFFFFFFF) != 0:
            raise Refusal(f"The filter cannot be understood: {library.pcap_geterr(handle).decode()}.", "filter")
        octets = ctypes.string_at(program.instructions, program.length * ctypes.sizeof(_Instruction))
        library.pcap_freecode(ctypes.byref(program))
    finally:
        library.pcap_close(handle)
    return octets


def link_of(interface: str) -> int:
    """What packets of an interface begin with.

    Raises
    ------
    Refusal
    """
    if interface not in interfaces():
        raise Refusal(f"There is no interface {interface[:40]} where the collector runs.", "interface")
    kind = int(Path(f"/sys/class/net/{interface}/type").read_text())
    if kind not in HEADERS:
        raise Refusal(f"Packets of {interface} begin with something that is not known here.", "interface")
    return HEADERS[kind]


class Tap:
    """Sees the packets of an interface from the moment that it is made.

    Raises
    ------
    Refusal
        if that is not allowed here, or there is no such interface
    """

    def __init__(self, interface: str, text: str, longest: int) -> None:
        self.link = link_of(interface)
        program = compiled(text, self.link)
        try:
            self._socket = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ETH_P_ALL))
        except PermissionError as error:
            raise Refusal(
                "The collector may not capture: it lacks the right CAP_NET_RAW. Give it AmbientCapabilities=CAP_NET_RAW in its unit, or run it as root."
            ) from error
        try:
            if program:
                block = ctypes.create_string_buffer(program)
                attached = struct.pack("HxxxxxxP", len(program) // 8, ctypes.addressof(block))
                self._socket.setsockopt(socket.SOL_SOCKET, SO_ATTACH_FILTER, attached)
            self._socket.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
            self._socket.bind((interface, 0))
            self._socket.setblocking(False)
            # What came before the filter and the interface held is not of it.
            with suppress(BlockingIOError):
                while True:
                    self._socket.recv(1)
        except OSError as error:
            self._socket.close()
            raise Refusal(f"The collector cannot capture at {interface}: {error.strerror}.", "interface") from error
        self._longest, self._is_loopback = longest, interface == "lo"

    def packets(self) -> Iterator[Packet | None]:
        """Packets as they come; None whenever none came for a moment."""
        while True:
            ready, _, _ = select.select([self._socket], [], [], LOOK_S)
            if not ready:
                yield None
                continue
            try:
                data, ancillary, _, (_, _, way, _, _) = self._socket.recvmsg(LONGEST, 128)
            except BlockingIOError:
                continue
            except OSError as error:
                raise Refusal(f"The interface is gone: {error.strerror}.") from error
            if way == OUTGOING and self._is_loopback:
                # On the way to itself a packet is seen twice.
                continue
            at = next(
                (
                    struct.unpack("qq", value[:16])
                    for level, kind, value in ancillary
                    if (level, kind) == (socket.SOL_SOCKET, SO_TIMESTAMPNS)
                ),
                None,
            )
            at_ns = at[0] * 10**9 + at[1] if at else time.time_ns()
            yield Packet(at_ns, data[: self._longest], len(data))

    def dropped(self) -> int:
        """Packets that the system had no room for, since this was asked last."""
        _, drops = struct.unpack("II", self._socket.getsockopt(SOL_PACKET, PACKET_STATISTICS, 8))
        return int(drops)

    def close(self) -> None:
        """See no more."""
        self._socket.close()


def interfaces() -> list[str]:
    """The interfaces of this machine."""
    return sorted(name for _, name in socket.if_nameindex())
