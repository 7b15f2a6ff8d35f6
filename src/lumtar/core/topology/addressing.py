"""Addresses that a device has itself, and those of others that it has seen (ARP and neighbour discovery), after IP-MIB (RFC 4293)."""

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field

from lumtar.core.topology.macs import mac_of_octets, mac_text

Index = tuple[int, ...]
Column = Mapping[Index, int | bytes]
SIZES = {1: 4, 2: 16, 3: 4, 4: 16}
"""InetAddressType (RFC 4001): octets of the address itself; those with a zone have four more."""
LONGEST_PREFIX = {4: 32, 16: 128}


@dataclass(frozen=True, slots=True)
class OwnAddress:
    """An address of the device itself, at an interface; the length of its prefix is None where the device does not tell."""

    if_index: int
    address: str
    prefix: int | None = None


@dataclass(frozen=True, slots=True)
class Binding:
    """Somebody's address and MAC address, as a device learnt them at one of its interfaces."""

    if_index: int
    address: str
    mac: str


@dataclass(frozen=True, slots=True)
class Addresses:
    """What a device tells of addresses and of its interfaces.

    Attributes
    ----------
    mtus : the largest packet of each interface (ifMtu, octets)
    carriers : of an interface those beneath it (ifStackTable, RFC 2863 section 3.1.1): of a tunnel what it runs over
    """

    own: tuple[OwnAddress, ...] = ()
    bindings: tuple[Binding, ...] = ()
    mtus: Mapping[int, int] = field(default_factory=dict)
    carriers: Mapping[int, tuple[int, ...]] = field(default_factory=dict)


def carriers(stack: Column) -> dict[int, tuple[int, ...]]:
    """Which interfaces each one runs over, from ifStackStatus by the upper and the lower interface; 0 is none."""
    found: dict[int, tuple[int, ...]] = {}
    for index, status in stack.items():
        if len(index) == 2 and all(index) and status == 1:
            found[index[0]] = (*found.get(index[0], ()), index[1])
    return found


def inet_address(numbers: Index) -> str:
    """An InetAddress of an index: its type, its length, its octets; empty if it is none."""
    size = SIZES.get(numbers[0]) if len(numbers) > 1 else None
    if size is None or numbers[1] not in (size, size + 4) or len(numbers) != numbers[1] + 2:
        return ""
    octets = numbers[2 : 2 + size]
    return str(ipaddress.ip_address(bytes(octets))) if all(each < 256 for each in octets) else ""


def bindings(new: Column, old: Column) -> tuple[Binding, ...]:
    """What was learnt of others: of ipNetToPhysicalTable, and what ipNetToMediaTable has beside it.

    Parameters
    ----------
    new : ipNetToPhysicalPhysAddress by ifIndex and address
    old : ipNetToMediaPhysAddress by ifIndex and four octets
    """
    found: dict[tuple[int, str], Binding] = {}
    for column, is_new in ((new, True), (old, False)):
        for index, octets in column.items():
            numbers = index[1:] if is_new else (1, 4, *index[1:])
            address, mac = inet_address(numbers), mac_of_octets(octets) if isinstance(octets, bytes) else None
            if address and mac is not None and _is_of_one(address):
                found.setdefault((index[0], address), Binding(index[0], address, mac_text(mac)))
    return tuple(found.values())


def _is_of_one(address: str) -> bool:
    """Whether an address can be that of one station elsewhere."""
    known = ipaddress.ip_address(address)
    return not (known.is_multicast or known.is_unspecified or known.is_loopback)


def own_addresses(new: Column, prefixes: Mapping[Index, Index], old: Column, masks: Column) -> tuple[OwnAddress, ...]:
    """The addresses of a device, of ipAddressTable or, where it has none, of ipAddrTable.

    Parameters
    ----------
    new : ipAddressIfIndex by address
    prefixes : ipAddressPrefix by address, as the numbers of the row that it points to; the last one is the length
    old, masks : ipAdEntIfIndex and ipAdEntNetMask by four octets
    """
    found = []
    for index, if_index in new.items():
        address, row = inet_address(index), prefixes.get(index, ())
        if address and isinstance(if_index, int):
            size = LONGEST_PREFIX[SIZES[index[0]]]
            found.append(OwnAddress(if_index, address, row[-1] if len(row) > 6 and row[-1] <= size else None))
    if not found:
        for index, if_index in old.items():
            if (address := inet_address((1, 4, *index))) and isinstance(if_index, int):
                found.append(OwnAddress(if_index, address, prefix_length(masks.get(index))))
    return tuple(found)


def prefix_length(mask: object) -> int | None:
    """The length of an IPv4 prefix, from the four octets of its mask; None of what is no mask."""
    if not isinstance(mask, bytes) or len(mask) != 4:
        return None
    bits = f"{int.from_bytes(mask, 'big'):032b}"
    return bits.count("1") if "01" not in bits else None
