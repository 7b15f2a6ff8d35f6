"""What values may be: the ranges of SMIv2's types (RFC 2578 section 2) and of the objects that Lumtar reads.

Whatever an agent gives is looked at here before anything else sees it. What does not fit is absent, and counted with
its reason; nothing further in has to think of a device that lies.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from lumtar.core.components import Column, columns
from lumtar.wire import ber, oids
from lumtar.wire.pdu import Value

LONGEST_TEXT = 1024
"""Octets of a text that are believed. The standards allow 255; what is a little longer is cut later on."""
LONGEST_VALUE = 4096
"""Octets of any value that are kept at all."""
HIGHEST_INDEX = 2**31 - 1
"""InterfaceIndex and most other indexes (RFC 2863)."""


@dataclass(frozen=True, slots=True)
class Number:
    """A whole number from ``low`` to ``high``. ``instead`` stands for one that is out of range, where a row needs one."""

    name: str
    low: int
    high: int
    instead: int | None = None

    def fits(self, value: Value) -> bool:
        """Whether a value is one of these."""
        return isinstance(value, int) and self.low <= value <= self.high

    @property
    def words(self) -> str:
        """What it has to be."""
        return f"a number from {self.low} to {self.high}"


@dataclass(frozen=True, slots=True)
class Octets:
    """Text, an address, an object identifier: octets of a sane length."""

    name: str
    longest: int = LONGEST_TEXT
    instead: None = None

    def fits(self, value: Value) -> bool:
        """Whether a value is one of these."""
        return isinstance(value, bytes) and len(value) <= self.longest

    @property
    def words(self) -> str:
        """What it has to be."""
        return f"at most {self.longest} octets"


@dataclass(frozen=True, slots=True)
class ObjectId:
    """An object identifier, properly encoded."""

    name: str
    instead: None = None

    def fits(self, value: Value) -> bool:
        """Whether a value is one of these."""
        return isinstance(value, bytes) and (not value or is_index(value))

    @property
    def words(self) -> str:
        """What it has to be."""
        return "an object identifier"


Syntax = Number | Octets | ObjectId


def _counter32(name: str) -> Number:
    return Number(name, 0, 2**32 - 1)


def _counter64(name: str) -> Number:
    return Number(name, 0, 2**64 - 1)


def _syntax(column: Column) -> Syntax:
    """What a component's column holds."""
    if column.low is not None and column.high is not None:
        return Number(column.name, column.low, column.high)
    return ObjectId(column.name) if column.is_oid else Octets(column.name)


def _lldp() -> dict[bytes, Syntax]:
    """What both versions of the LLDP MIB give of a neighbour."""
    remote = ("ChassisIdSubtype", "ChassisId", "PortIdSubtype", "PortId", "PortDesc", "SysName", "SysDesc")
    known: dict[bytes, Syntax] = {}
    for prefix, table in (("lldp", oids.LLDP), ("lldpV2", oids.LLDP_V2)):
        for column, name in zip(table.remote, remote, strict=True):
            called = f"{prefix}Rem{name}"
            known[column] = Number(called, 1, 7) if name.endswith("Subtype") else Octets(called, 255)
        if table.local:
            known[table.local[0]] = Number(f"{prefix}LocPortIdSubtype", 1, 7)
            known[table.local[1]] = Octets(f"{prefix}LocPortId", 255)
    return known


def _routes() -> dict[bytes, Syntax]:
    """What the three tables of routes give."""
    known: dict[bytes, Syntax] = {}
    for prefix, table in (
        ("inetCidrRoute", oids.INET_CIDR_ROUTE),
        ("ipCidrRoute", oids.IP_CIDR_ROUTE),
        ("ipRoute", oids.IP_ROUTE),
    ):
        names = ("IfIndex", "Type", "Proto", "Metric1")
        lowest = (0, 1, 1, -1)
        for column, name, low in zip(table.columns, names, lowest, strict=True):
            known[column] = Number(f"{prefix}{name}", low, HIGHEST_INDEX)
        if table.number is not None:
            known[table.number] = Number(f"{prefix}Number", 0, 2**32 - 1)
    return known


SYNTAX: dict[bytes, Syntax] = {
    **{ber.oid_body(oid): _syntax(column) for oid, column in columns().items()},
    **_lldp(),
    **_routes(),
    oids.SYS_DESCR: Octets("sysDescr"),
    oids.SYS_OBJECT_ID: ObjectId("sysObjectID"),
    oids.SYS_UPTIME: Number("sysUpTime", 0, 2**32 - 1),
    oids.SYS_CONTACT: Octets("sysContact"),
    oids.SYS_NAME: Octets("sysName"),
    oids.SYS_LOCATION: Octets("sysLocation"),
    oids.IF_NUMBER: Number("ifNumber", 0, HIGHEST_INDEX),
    oids.IF_TABLE_LAST_CHANGE: Number("ifTableLastChange", 0, 2**32 - 1),
    oids.IF_DESCR: Octets("ifDescr"),
    oids.IF_TYPE: Number("ifType", 1, HIGHEST_INDEX),
    oids.IF_SPEED: Number("ifSpeed", 0, 2**32 - 1),
    oids.IF_PHYS_ADDRESS: Octets("ifPhysAddress", 64),
    oids.IF_ADMIN_STATUS: Number("ifAdminStatus", 1, 3),
    # The state says which interfaces there are: one with an odd state is there all the same, its state is unknown (4).
    oids.IF_OPER_STATUS: Number("ifOperStatus", 1, 7, instead=4),
    oids.IF_IN_OCTETS: _counter32("ifInOctets"),
    oids.IF_IN_UCAST: _counter32("ifInUcastPkts"),
    oids.IF_IN_NUCAST: _counter32("ifInNUcastPkts"),
    oids.IF_IN_DISCARDS: _counter32("ifInDiscards"),
    oids.IF_IN_ERRORS: _counter32("ifInErrors"),
    oids.IF_OUT_OCTETS: _counter32("ifOutOctets"),
    oids.IF_OUT_UCAST: _counter32("ifOutUcastPkts"),
    oids.IF_OUT_NUCAST: _counter32("ifOutNUcastPkts"),
    oids.IF_OUT_DISCARDS: _counter32("ifOutDiscards"),
    oids.IF_OUT_ERRORS: _counter32("ifOutErrors"),
    oids.IF_NAME: Octets("ifName"),
    oids.IF_HC_IN_OCTETS: _counter64("ifHCInOctets"),
    oids.IF_HC_IN_UCAST: _counter64("ifHCInUcastPkts"),
    oids.IF_HC_IN_MULTICAST: _counter64("ifHCInMulticastPkts"),
    oids.IF_HC_IN_BROADCAST: _counter64("ifHCInBroadcastPkts"),
    oids.IF_HC_OUT_OCTETS: _counter64("ifHCOutOctets"),
    oids.IF_HC_OUT_UCAST: _counter64("ifHCOutUcastPkts"),
    oids.IF_HC_OUT_MULTICAST: _counter64("ifHCOutMulticastPkts"),
    oids.IF_HC_OUT_BROADCAST: _counter64("ifHCOutBroadcastPkts"),
    oids.IF_HIGH_SPEED: Number("ifHighSpeed", 0, 2**32 - 1),
    oids.IF_ALIAS: Octets("ifAlias"),
    oids.IF_COUNTER_DISCONTINUITY: Number("ifCounterDiscontinuityTime", 0, 2**32 - 1),
    oids.DOT3_ALIGNMENT: _counter32("dot3StatsAlignmentErrors"),
    oids.DOT3_FCS: _counter32("dot3StatsFCSErrors"),
    oids.DOT3_LATE: _counter32("dot3StatsLateCollisions"),
    oids.DOT3_DUPLEX: Number("dot3StatsDuplexStatus", 1, 3),
    oids.ENT_CLASS: Number("entPhysicalClass", 1, 99),
    oids.ENT_SOFTWARE: Octets("entPhysicalSoftwareRev"),
    oids.ENT_SERIAL: Octets("entPhysicalSerialNum"),
    oids.ENT_MAKER: Octets("entPhysicalMfgName"),
    oids.ENT_MODEL: Octets("entPhysicalModelName"),
    oids.ENGINE_ID: Octets("snmpEngineID", 32),
    oids.BRIDGE_ADDRESS: Octets("dot1dBaseBridgeAddress", 6),
    oids.DOT1D_PORT_IF_INDEX: Number("dot1dBasePortIfIndex", 0, HIGHEST_INDEX),
    oids.DOT1D_FORWARDING_PORT: Number("dot1dTpFdbPort", 0, HIGHEST_INDEX),
    oids.DOT1Q_FORWARDING_PORT: Number("dot1qTpFdbPort", 0, HIGHEST_INDEX),
    oids.DOT1Q_VLAN_FDB: Number("dot1qVlanFdbId", 0, 2**32 - 1),
    oids.DOT1Q_VLAN_EGRESS: Octets("dot1qVlanCurrentEgressPorts"),
    oids.DOT1Q_VLAN_UNTAGGED: Octets("dot1qVlanCurrentUntaggedPorts"),
    oids.DOT1Q_VLAN_NAME: Octets("dot1qVlanStaticName", 255),
    oids.DOT1Q_PVID: Number("dot1qPvid", 0, 4095),
    oids.STP_CHANGES: _counter32("dot1dStpTopChanges"),
    oids.STP_ROOT: Octets("dot1dStpDesignatedRoot", 8),
    oids.STP_ROOT_COST: Number("dot1dStpRootCost", 0, HIGHEST_INDEX),
    oids.STP_ROOT_PORT: Number("dot1dStpRootPort", 0, HIGHEST_INDEX),
    oids.STP_PORT_STATE: Number("dot1dStpPortState", 1, 6),
    oids.STP_PORT_BRIDGE: Octets("dot1dStpPortDesignatedBridge", 8),
    oids.LAG_ATTACHED: Number("dot3adAggPortAttachedAggID", 0, HIGHEST_INDEX),
    oids.ARP_NEW: Octets("ipNetToPhysicalPhysAddress", 64),
    oids.ARP_OLD: Octets("ipNetToMediaPhysAddress", 64),
    oids.ADDRESS_IF_INDEX: Number("ipAddressIfIndex", 1, HIGHEST_INDEX),
    oids.ADDRESS_PREFIX: ObjectId("ipAddressPrefix"),
    oids.OLD_ADDRESS_IF_INDEX: Number("ipAdEntIfIndex", 1, HIGHEST_INDEX),
    oids.OLD_ADDRESS_MASK: Octets("ipAdEntNetMask", 4),
    oids.IP_ROUTE_NEXT_HOP: Octets("ipRouteNextHop", 4),
    oids.IP_ROUTE_MASK: Octets("ipRouteMask", 4),
    oids.IF_STACK: Number("ifStackStatus", 1, 6),
    oids.IF_MTU: Number("ifMtu", 0, HIGHEST_INDEX),
}
"""By encoded object identifier: of scalars with their instance, of columns without."""
BY_INTERFACE = frozenset(oid for oid in SYNTAX if oid.startswith((oids.IF_ENTRY, oids.IF_X_ENTRY, oids.DOT3_ENTRY)))
"""Columns whose index is an ifIndex."""
TYPES = {
    ber.INTEGER: "INTEGER",
    ber.OCTET_STRING: "OCTET STRING",
    ber.OBJECT_IDENTIFIER: "OBJECT IDENTIFIER",
    ber.IP_ADDRESS: "IpAddress",
    ber.COUNTER32: "Counter32",
    ber.GAUGE32: "Gauge32",
    ber.TIME_TICKS: "TimeTicks",
    ber.OPAQUE: "Opaque",
    ber.COUNTER64: "Counter64",
}
"""As SMIv2 calls them."""


def name_of(oid: bytes) -> str:
    """The name of a known object or of an instance of one, else its numbers."""
    for size in range(len(oid), 4, -1):
        if known := SYNTAX.get(oid[:size]):
            return known.name
    try:
        return ber.dotted(oid)[:80]
    except ber.Malformed:
        return "an object without a proper name"


def is_interface_index(index: bytes) -> bool:
    """Whether an encoded index is one number that an interface can have."""
    try:
        numbers = ber.suffix(index)
    except ber.Malformed:
        return False
    return len(numbers) == 1 and 0 < numbers[0] <= HIGHEST_INDEX


def is_index(index: bytes) -> bool:
    """Whether an encoded index consists of whole numbers of 32 bits, each written in the one way that there is."""
    try:
        return 0 < len(ber.suffix(index)) <= ber.LONGEST_OID
    except ber.Malformed:
        return False


def misfits(syntax: Syntax, values: Sequence[Value]) -> list[int]:
    """Places of the values that are not what they have to be. Nearly always there is none, which is told quickly."""
    if not values:
        return []
    if isinstance(syntax, Number):
        try:
            if syntax.low <= min(values) and max(values) <= syntax.high:  # type: ignore[operator]
                return []
        except TypeError:
            pass
    return [place for place, value in enumerate(values) if not syntax.fits(value)]


def shown(value: Value) -> str:
    """An odd value for people."""
    if isinstance(value, int):
        return str(value) if abs(value) < 2**128 else f"a number of {value.bit_length()} bits"
    if not value:
        return "nothing"
    text = value[:24].decode("latin-1")
    return f"“{text}”" if text.isprintable() else f"{len(value):,} octets"
