"""Object identifiers of standard MIBs, encoded once."""

from typing import NamedTuple

from lumtar.wire.ber import oid_body

SYS_DESCR = oid_body("1.3.6.1.2.1.1.1.0")
SYS_OBJECT_ID = oid_body("1.3.6.1.2.1.1.2.0")
SYS_UPTIME = oid_body("1.3.6.1.2.1.1.3.0")
SYS_CONTACT = oid_body("1.3.6.1.2.1.1.4.0")
SYS_NAME = oid_body("1.3.6.1.2.1.1.5.0")
SYS_LOCATION = oid_body("1.3.6.1.2.1.1.6.0")
IF_NUMBER = oid_body("1.3.6.1.2.1.2.1.0")
IF_TABLE_LAST_CHANGE = oid_body("1.3.6.1.2.1.31.1.5.0")

_IF_ENTRY = "1.3.6.1.2.1.2.2.1."
IF_ENTRY = oid_body("1.3.6.1.2.1.2.2.1")
IF_DESCR, IF_TYPE, IF_SPEED, IF_PHYS_ADDRESS, IF_ADMIN_STATUS, IF_OPER_STATUS = (
    oid_body(_IF_ENTRY + str(column)) for column in (2, 3, 5, 6, 7, 8)
)
IF_IN_OCTETS, IF_IN_UCAST, IF_IN_NUCAST, IF_IN_DISCARDS, IF_IN_ERRORS = (
    oid_body(_IF_ENTRY + str(column)) for column in (10, 11, 12, 13, 14)
)
IF_OUT_OCTETS, IF_OUT_UCAST, IF_OUT_NUCAST, IF_OUT_DISCARDS, IF_OUT_ERRORS = (
    oid_body(_IF_ENTRY + str(column)) for column in (16, 17, 18, 19, 20)
)

_IF_X_ENTRY = "1.3.6.1.2.1.31.1.1.1."
IF_X_ENTRY = oid_body("1.3.6.1.2.1.31.1.1.1")
IF_NAME = oid_body(_IF_X_ENTRY + "1")
(
    IF_HC_IN_OCTETS,
    IF_HC_IN_UCAST,
    IF_HC_IN_MULTICAST,
    IF_HC_IN_BROADCAST,
    IF_HC_OUT_OCTETS,
    IF_HC_OUT_UCAST,
    IF_HC_OUT_MULTICAST,
    IF_HC_OUT_BROADCAST,
) = (oid_body(_IF_X_ENTRY + str(column)) for column in range(6, 14))
IF_HIGH_SPEED = oid_body(_IF_X_ENTRY + "15")
IF_ALIAS = oid_body(_IF_X_ENTRY + "18")
IF_COUNTER_DISCONTINUITY = oid_body(_IF_X_ENTRY + "19")

DOT3_ENTRY = oid_body("1.3.6.1.2.1.10.7.2.1")
DOT3_ALIGNMENT, DOT3_FCS, DOT3_LATE, DOT3_DUPLEX = (
    oid_body(f"1.3.6.1.2.1.10.7.2.1.{column}") for column in (2, 3, 8, 19)
)

_ENT_PHYSICAL = "1.3.6.1.2.1.47.1.1.1.1."
ENT_CLASS, ENT_SOFTWARE, ENT_SERIAL, ENT_MAKER, ENT_MODEL = (
    oid_body(_ENT_PHYSICAL + str(column)) for column in (5, 10, 11, 12, 13)
)

ENGINE_ID = oid_body("1.3.6.1.6.3.10.2.1.1.0")
BRIDGE_ADDRESS = oid_body("1.3.6.1.2.1.17.1.1.0")


class LldpTable(NamedTuple):
    """Where a version of the LLDP MIB has what is read of it.

    Attributes
    ----------
    remote : subtype and identifier of the chassis and of the port, description of the port, name and description of the system
    address : a column of the management address table; the addresses stand in its index
    local : subtype and identifier of the own ports by their number; empty if the number is an ifIndex
    """

    remote: tuple[bytes, ...]
    address: bytes
    local: tuple[bytes, ...]


def _columns(entry: str, first: int, number: int) -> tuple[bytes, ...]:
    return tuple(oid_body(f"{entry}.{column}") for column in range(first, first + number))


LLDP = LldpTable(
    _columns("1.0.8802.1.1.2.1.4.1.1", 4, 7),
    oid_body("1.0.8802.1.1.2.1.4.2.1.3"),
    _columns("1.0.8802.1.1.2.1.3.7.1", 2, 2),
)
LLDP_V2 = LldpTable(_columns("1.3.111.2.802.1.1.13.1.4.1.1", 5, 7), oid_body("1.3.111.2.802.1.1.13.1.4.2.1.3"), ())

DOT1D_PORT_IF_INDEX = oid_body("1.3.6.1.2.1.17.1.4.1.2")
DOT1D_FORWARDING_PORT = oid_body("1.3.6.1.2.1.17.4.3.1.2")
DOT1Q_FORWARDING_PORT = oid_body("1.3.6.1.2.1.17.7.1.2.2.1.2")
DOT1Q_VLAN_FDB, DOT1Q_VLAN_EGRESS, DOT1Q_VLAN_UNTAGGED = _columns("1.3.6.1.2.1.17.7.1.4.2.1", 3, 3)
DOT1Q_VLAN_NAME = oid_body("1.3.6.1.2.1.17.7.1.4.3.1.1")
DOT1Q_PVID = oid_body("1.3.6.1.2.1.17.7.1.4.5.1.1")
STP_CHANGES, STP_ROOT, STP_ROOT_COST, STP_ROOT_PORT = (
    oid_body(f"1.3.6.1.2.1.17.2.{number}.0") for number in (4, 5, 6, 7)
)
STP_PORT_STATE, STP_PORT_BRIDGE = (oid_body(f"1.3.6.1.2.1.17.2.15.1.{column}") for column in (3, 8))
LAG_ATTACHED = oid_body("1.2.840.10006.300.43.1.2.1.1.13")
ARP_NEW, ARP_OLD = oid_body("1.3.6.1.2.1.4.35.1.4"), oid_body("1.3.6.1.2.1.4.22.1.2")
ADDRESS_IF_INDEX, ADDRESS_PREFIX = (oid_body(f"1.3.6.1.2.1.4.34.1.{column}") for column in (3, 5))
OLD_ADDRESS_IF_INDEX, OLD_ADDRESS_MASK = _columns("1.3.6.1.2.1.4.20.1", 2, 2)
IF_MTU = oid_body(_IF_ENTRY + "4")
IF_STACK = oid_body("1.3.6.1.2.1.31.1.2.1.3")


class RouteTable(NamedTuple):
    """Where a table of routes has what is read of it; rows are counted in ``number``, if the MIB has that."""

    columns: tuple[bytes, bytes, bytes, bytes]
    number: bytes | None


def _route_table(entry: str, columns: tuple[int, int, int, int], number: str = "") -> RouteTable:
    """Interface, type, protocol and metric."""
    if_index, kind, protocol, metric = (oid_body(f"{entry}.{column}") for column in columns)
    return RouteTable((if_index, kind, protocol, metric), oid_body(number) if number else None)


INET_CIDR_ROUTE = _route_table("1.3.6.1.2.1.4.24.7.1", (7, 8, 9, 12), "1.3.6.1.2.1.4.24.6.0")
IP_CIDR_ROUTE = _route_table("1.3.6.1.2.1.4.24.4.1", (5, 6, 7, 11), "1.3.6.1.2.1.4.24.3.0")
IP_ROUTE = _route_table("1.3.6.1.2.1.4.21.1", (2, 8, 9, 3))
IP_ROUTE_NEXT_HOP, IP_ROUTE_MASK = (oid_body(f"1.3.6.1.2.1.4.21.1.{column}") for column in (7, 11))
