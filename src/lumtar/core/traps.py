"""Traps and inform requests: which notifications the standards define, what each means, and what is done on it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from lumtar.core.text import clean

Value = int | bytes | str
"""Numbers, octets, and object identifiers or addresses as text."""


class Then(StrEnum):
    """What is done on a notification, beside writing it down."""

    NOTHING = "nothing"
    POLL = "poll"
    """The device is polled and described at once: what it has, or what is around it, is another than before."""
    LAST_GASP = "last gasp"
    """The device is losing its power, and is polled at once."""


@dataclass(frozen=True, slots=True)
class Known:
    """A notification that is known by name."""

    name: str
    words: str
    then: Then = Then.NOTHING


SNMP_TRAPS = "1.3.6.1.6.3.1.1.5"
LINK_DOWN, LINK_UP = f"{SNMP_TRAPS}.3", f"{SNMP_TRAPS}.4"
KNOWN: Mapping[str, Known] = {
    f"{SNMP_TRAPS}.1": Known("coldStart", "it started, and may be set up differently", Then.POLL),
    f"{SNMP_TRAPS}.2": Known("warmStart", "it started again with the same setup", Then.POLL),
    LINK_DOWN: Known("linkDown", "a link is about to go down", Then.POLL),
    LINK_UP: Known("linkUp", "a link came up", Then.POLL),
    f"{SNMP_TRAPS}.5": Known("authenticationFailure", "somebody asked with a wrong community or password"),
    "1.3.6.1.2.1.17.0.1": Known("newRoot", "it became the root of the spanning tree", Then.POLL),
    "1.3.6.1.2.1.17.0.2": Known("topologyChange", "a port of its spanning tree changed", Then.POLL),
    "1.3.6.1.2.1.47.2.0.1": Known("entConfigChange", "its parts changed", Then.POLL),
    "1.0.8802.1.1.2.0.0.1": Known("lldpRemTablesChange", "it has other neighbours", Then.POLL),
    "1.3.6.1.2.1.105.0.1": Known("pethPsePortOnOffNotification", "a port gives power, or does not any more"),
    "1.3.6.1.2.1.105.0.2": Known("pethMainPowerUsageOnNotification", "most of its power budget is in use"),
    "1.3.6.1.2.1.33.2.1": Known("upsTrapOnBattery", "it runs on its battery"),
    "1.3.6.1.2.1.33.2.3": Known("upsTrapAlarmEntryAdded", "it has an alarm of its own"),
    "1.3.6.1.2.1.16.0.1": Known("risingAlarm", "a limit that is set on the device was exceeded"),
    "1.3.6.1.2.1.16.0.2": Known("fallingAlarm", "a value fell below a limit that is set on the device"),
    "1.3.6.1.2.1.15.7.1": Known("bgpEstablished", "a BGP session came up"),
    "1.3.6.1.2.1.15.7.2": Known("bgpBackwardTransition", "a BGP session went down"),
    "1.3.6.1.2.1.14.16.2.2": Known("ospfNbrStateChange", "an OSPF neighbour changed its state"),
}
"""By snmpTrapOID: SNMPv2-MIB (RFC 3418), IF-MIB (RFC 2863), BRIDGE-MIB (RFC 4188), ENTITY-MIB (RFC 6933), LLDP-MIB, POWER-ETHERNET-MIB
(RFC 3621), UPS-MIB (RFC 1628), RMON-MIB (RFC 2819), BGP4-MIB (RFC 4273), OSPF-TRAP-MIB (RFC 4750)."""

IF_INDEX, IF_ADMIN_STATUS, IF_OPER_STATUS = (f"1.3.6.1.2.1.2.2.1.{column}" for column in (1, 7, 8))
STATES = {1: "up", 2: "down", 3: "testing", 4: "unknown", 5: "dormant", 6: "not present", 7: "lower layer down"}
ENTERPRISE_SPECIFIC = 6
MOST_SHOWN = 6
"""Values of a trap that is not known by name that its sentence shows."""


def standard_oid(enterprise: str, generic: int, specific: int) -> str:
    """The snmpTrapOID of a version 1 trap (RFC 3584 section 3.1)."""
    if generic == ENTERPRISE_SPECIFIC:
        return f"{enterprise}.0.{specific}"
    return f"{SNMP_TRAPS}.{generic + 1}"


@dataclass(frozen=True, slots=True)
class Notification:
    """A trap or an inform request: its snmpTrapOID and its objects, each an object identifier with a value."""

    oid: str
    objects: Sequence[tuple[str, Value]] = ()

    @property
    def known(self) -> Known | None:
        """What it is, if the standards define it."""
        return KNOWN.get(self.oid)

    @property
    def if_index(self) -> int | None:
        """The interface that it is about, if it says one."""
        for oid, value in self.objects:
            if oid.startswith(f"{IF_INDEX}.") and isinstance(value, int):
                return value
        return None

    def then(self, last_gasps: Sequence[str] = ()) -> Then:
        """What is to be done.

        Parameters
        ----------
        last_gasps : notifications by which devices of this kind say that they lose their power
        """
        if self.oid in last_gasps:
            return Then.LAST_GASP
        return self.known.then if self.known else Then.NOTHING

    def sentence(self, port: str = "", *, is_last_gasp: bool = False) -> str:
        """What it says, for the logbook.

        Parameters
        ----------
        port : what the interface is called that it is about
        """
        if is_last_gasp:
            return f"trap {self.oid}: it is losing its power"
        if self.oid in (LINK_DOWN, LINK_UP):
            return f"trap {KNOWN[self.oid].name}: {port or f'interface {self.if_index or 0}'} {self._states()}".rstrip()
        if self.known:
            return f"trap {self.known.name}: {self.known.words}{f', {port}' if port else ''}"
        shown = [f"{oid} = {_shown(value)}" for oid, value in self.objects[:MOST_SHOWN]]
        more = len(self.objects) - len(shown)
        return f"trap {self.oid}" + (f": {', '.join(shown)}" if shown else "") + (f" and {more} more" if more else "")

    def _states(self) -> str:
        said = {oid.rpartition(".")[0]: value for oid, value in self.objects}
        admin, oper = said.get(IF_ADMIN_STATUS), said.get(IF_OPER_STATUS)
        words = [
            f"{name} {STATES.get(value, value)}"
            for name, value in (("switched", admin), ("operationally", oper))
            if isinstance(value, int) and (name != "switched" or value == 2)
        ]
        return ", ".join(words).replace("switched down", "switched off")


def _shown(value: Value) -> str:
    if not isinstance(value, bytes):
        return str(value)[:60]
    try:
        is_text = value.decode().isprintable()
    except UnicodeDecodeError:
        is_text = False
    return f"“{clean(value)[:60]}”" if is_text and value else value[:12].hex(" ") or "nothing"
