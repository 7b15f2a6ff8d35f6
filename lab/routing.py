"""Addresses and routes of stand-ins that route (IP-MIB, IP-FORWARD-MIB): branches over two transports, the middle between them."""

import ipaddress
from collections.abc import Sequence
from dataclasses import dataclass

from lab.device import Device
from lab.mib import Column, scalar
from lab.scenario import SITES, Box
from lumtar.wire import ber
from lumtar.wire.ber import oid_body

ADDRESS, ROUTE = "1.3.6.1.2.1.4.34.1", "1.3.6.1.2.1.4.24.7.1"
CONNECTED, STATIC, OSPF, BGP = 2, 3, 13, 14
LOCAL, REMOTE = 3, 4
TRANSPORTS = {"wan1": ("10.250.0", "2001:db8:fa:a"), "wan2": ("10.251.0", "2001:db8:fa:b")}
"""Of the ports of a branch, the networks in which they have an address."""
BETWEEN = "10.252.0"
"""The network between the routers of the library and of the depot."""
Interface = ipaddress.IPv4Interface | ipaddress.IPv6Interface


@dataclass(frozen=True, slots=True)
class Hop:
    """A route of a stand-in."""

    network: str
    next_hop: str
    if_index: int
    protocol: int
    metric: int


def site_number(site: str) -> int:
    """The number of a site in its addresses."""
    return SITES.index(site) if site in SITES else 200


def addresses(device: Device, inward: int, vlans: Sequence[int]) -> list[tuple[int, Interface]]:
    """The addresses of a router or firewall, each at an ifIndex.

    Parameters
    ----------
    inward : the ifIndex of the port that leads to the site's bridges; 0 if there is none
    """
    box, site = device.box, site_number(device.box.site)
    found = [(inward, f"10.{site}.{vlan}.1/24") for vlan in vlans if inward]
    if box.name == "cen-fw-1":
        found = [(1, "192.0.2.1/30"), (2, "10.0.99.2/24"), (2, "10.255.0.1/16")]
    elif box.name == "cen-wan-1":
        found += [(1, "10.250.0.1/16"), (1, "2001:db8:fa:a::1/64"), (inward, f"{BETWEEN}.1/30")]
    elif box.name == "dep-wan-1":
        found += [(1, "10.251.0.1/16"), (1, "2001:db8:fa:b::1/64"), (inward, f"{BETWEEN}.2/30")]
    elif box.family == "wan":
        for name, (four, six) in TRANSPORTS.items():
            if port := next((port for port in box.ports if port.name == name), None):
                found += [(port.index, f"{four}.{site + 10}/16"), (port.index, f"{six}::{site + 10:x}/64")]
    if inward and box.family == "wan":
        found.append((inward, f"2001:db8:{site:x}:{vlans[1]:x}::1/64"))
    return [(index, ipaddress.ip_interface(each)) for index, each in found if index]


def routes(device: Device, own: Sequence[tuple[int, Interface]], branches: Sequence[tuple[Box, bool]]) -> list[Hop]:
    """The routes of a router or firewall, as far as its ports are up.

    Parameters
    ----------
    branches : the routers of all branches, and whether their first transport is up
    """
    box = device.box
    planned = {port.index: port.up for port in box.ports}
    up = {index for index, _ in own if device.is_up(index, planned[index])}
    found = [Hop(str(each.network), "", index, CONNECTED, 0) for index, each in own if index in up]
    inward = max(up, default=0)
    if box.name == "cen-fw-1":
        found += [Hop("10.0.0.0/8", "10.0.99.1", 2, STATIC, 1), Hop("0.0.0.0/0", "192.0.2.2", 1, STATIC, 1)]
    elif box.name == "cen-wan-1":
        found += [
            Hop("0.0.0.0/0", "10.0.99.2", inward, STATIC, 1),
            Hop("10.1.0.0/16", f"{BETWEEN}.2", inward, OSPF, 20),
        ]
        found += _to_branches(branches, 1 in up, inward)
    elif box.name == "dep-wan-1":
        found.append(Hop("0.0.0.0/0", f"{BETWEEN}.1", inward, OSPF, 20))
        found += [hop for branch, _ in branches if (hop := _to_branch(branch, "10.251.0", 1, BGP))]
    else:
        for name, metric in (("wan1", 10), ("wan2", 20)):
            port = next((port.index for port in box.ports if port.name == name), 0)
            four, six = TRANSPORTS[name]
            found += [
                Hop("0.0.0.0/0", f"{four}.1", port, BGP, metric),
                Hop("::/0", f"{six}::1", port, BGP, metric),
            ]
    return [hop for hop in found if hop.if_index in up]


def _to_branches(branches: Sequence[tuple[Box, bool]], is_up: bool, inward: int) -> list[Hop]:
    """Over the first transport where it is up at both ends, else by way of the depot."""
    found = []
    for branch, has_first in branches:
        if is_up and has_first:
            hop = _to_branch(branch, "10.250.0", 1, BGP)
        else:
            hop = Hop(f"10.{site_number(branch.site)}.0.0/16", f"{BETWEEN}.2", inward, OSPF, 20)
        found.append(hop)
        if is_up and has_first:
            number = site_number(branch.site)
            found.append(Hop(f"2001:db8:{number:x}::/48", f"2001:db8:fa:a::{number + 10:x}", 1, BGP, 20))
    return found


def _to_branch(branch: Box, transport: str, index: int, protocol: int) -> Hop:
    number = site_number(branch.site)
    return Hop(f"10.{number}.0.0/16", f"{transport}.{number + 10}", index, protocol, 20)


def _inet(address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> list[int]:
    """An InetAddress of an index: type, length, octets."""
    return [1 if address.version == 4 else 2, len(address.packed), *address.packed]


def columns(own: Sequence[tuple[int, Interface]], hops: Sequence[Hop]) -> list[Column]:
    """Both tables, as an agent answers."""
    held = sorted(own, key=lambda each: _inet(each[1].ip))
    index = [ber.subidentifiers(_inet(each.ip)) for _, each in held]
    prefixes = [
        f"1.3.6.1.2.1.4.32.1.5.{if_index}.{'.'.join(map(str, _inet(each.network.network_address)))}.{each.network.prefixlen}"
        for if_index, each in held
    ]
    rows: dict[tuple[int, ...], Hop] = {}
    for hop in hops:
        network = ipaddress.ip_network(hop.network)
        beyond = _inet(ipaddress.ip_address(hop.next_hop)) if hop.next_hop else [0, 0]
        rows[*_inet(network.network_address), network.prefixlen, 2, 0, 0, *beyond] = hop
    ordered = sorted(rows)
    told = [rows[row] for row in ordered]
    encoded = [ber.subidentifiers(list(row)) for row in ordered]

    def column(oid: str, indexes: list[bytes], values: list[bytes]) -> Column:
        return Column(oid_body(oid), indexes, lambda at: values)

    return [
        column(f"{ADDRESS}.3", index, [ber.integer(if_index) for if_index, _ in held]),
        column(f"{ADDRESS}.5", index, [ber.tlv(ber.OBJECT_IDENTIFIER, oid_body(each)) for each in prefixes]),
        scalar("1.3.6.1.2.1.4.24.6", lambda at: [ber.integer(len(told), ber.GAUGE32)]),
        column(f"{ROUTE}.7", encoded, [ber.integer(hop.if_index) for hop in told]),
        column(f"{ROUTE}.8", encoded, [ber.integer(REMOTE if hop.next_hop else LOCAL) for hop in told]),
        column(f"{ROUTE}.9", encoded, [ber.integer(hop.protocol) for hop in told]),
        column(f"{ROUTE}.12", encoded, [ber.integer(hop.metric) for hop in told]),
    ]
