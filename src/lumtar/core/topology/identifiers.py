"""Chassis and ports as LLDP identifies them (IEEE 802.1AB-2016, clauses 8.5.2 and 8.5.3)."""

import ipaddress
from dataclasses import dataclass
from enum import StrEnum

from lumtar.core.text import clean

LONGEST = 255
"""Octets of an identifier."""
IANA_IPV4, IANA_IPV6 = 1, 2
"""Address family numbers, the first octet of a network address."""


class IdKind(StrEnum):
    """What an identifier is made of."""

    COMPONENT = "component"
    ALIAS = "ifAlias"
    PORT_COMPONENT = "port component"
    MAC = "MAC address"
    ADDRESS = "network address"
    NAME = "ifName"
    CIRCUIT = "agent circuit"
    LOCAL = "locally assigned"
    UNKNOWN = "unknown"


CHASSIS = dict(
    enumerate(
        (IdKind.COMPONENT, IdKind.ALIAS, IdKind.PORT_COMPONENT, IdKind.MAC, IdKind.ADDRESS, IdKind.NAME, IdKind.LOCAL),
        1,
    )
)
"""LldpChassisIdSubtype."""
PORT = dict(
    enumerate(
        (IdKind.ALIAS, IdKind.PORT_COMPONENT, IdKind.MAC, IdKind.ADDRESS, IdKind.NAME, IdKind.CIRCUIT, IdKind.LOCAL), 1
    )
)
"""LldpPortIdSubtype."""


@dataclass(frozen=True, slots=True)
class Identifier:
    """What a chassis or a port calls itself."""

    kind: IdKind
    value: str


def chassis_identifier(subtype: int, octets: bytes) -> Identifier:
    """A chassis, from its subtype and its octets."""
    return _identifier(CHASSIS.get(subtype, IdKind.UNKNOWN), octets)


def port_identifier(subtype: int, octets: bytes) -> Identifier:
    """A port, from its subtype and its octets."""
    return _identifier(PORT.get(subtype, IdKind.UNKNOWN), octets)


def _identifier(kind: IdKind, octets: bytes) -> Identifier:
    octets = octets[:LONGEST]
    if kind is IdKind.MAC and len(octets) == 6:
        return Identifier(kind, octets.hex(":"))
    if kind is IdKind.ADDRESS and (address := network_address(octets)):
        return Identifier(kind, address)
    return Identifier(kind, _text(octets))


def network_address(octets: bytes) -> str:
    """An address that begins with the number of its family; empty if it is none that is known."""
    size = {IANA_IPV4: 4, IANA_IPV6: 16}.get(octets[0] if octets else 0)
    return str(ipaddress.ip_address(octets[1:])) if size and len(octets) == size + 1 else ""


def _text(octets: bytes) -> str:
    """Octets as text where they are some, else in hexadecimal digits."""
    try:
        is_text = octets.rstrip(b"\0").decode().isprintable()
    except UnicodeDecodeError:
        is_text = False
    return (clean(octets) if is_text else "") or octets.hex(":")
