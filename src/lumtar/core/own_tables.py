"""Tables and objects of makers' own that a profile names: neighbours, access points and their clients, how to restart."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any

from lumtar.core.profiles import check_oid
from lumtar.core.refusal import Refusal


@dataclass(frozen=True, slots=True)
class NeighbourTable:
    """A table of a maker's own that tells of neighbours, for devices that know nothing of LLDP.

    Attributes
    ----------
    name, port : columns with the name of the neighbour and of its port
    address : a column with its address, as octets or as text; empty if there is none
    if_index_at : which number of a row's index is the own port's ifIndex, from 1
    """

    name: str
    port: str
    address: str = ""
    if_index_at: int = 1


def check_neighbour_table(given: Mapping[str, Any]) -> NeighbourTable | None:
    """A table of neighbours as it is kept; None if nothing was given.

    Raises
    ------
    Refusal
    """
    name, port, address = (str(given.get(key) or "").strip() for key in ("name", "port", "address"))
    if not (name or port or address):
        return None
    if not name or not port:
        raise Refusal("A table of neighbours needs the columns of the neighbour's name and of its port.")
    at = int(given.get("if_index_at") or 1)
    if not 1 <= at <= 16:
        raise Refusal("The ifIndex is the first to the sixteenth number of a row's index.")
    return NeighbourTable(check_oid(name), check_oid(port), check_oid(address) if address else "", at)


@dataclass(frozen=True, slots=True)
class Restart:
    """What is set to restart a device: an object and its value."""

    oid: str
    value: int


def check_restart(given: Mapping[str, Any]) -> Restart | None:
    """What is set to restart a device, as it is kept; None if nothing was given.

    Raises
    ------
    Refusal
    """
    oid = str(given.get("oid") or "").strip()
    if not oid:
        return None
    value = given.get("value")
    if not isinstance(value, int) or not -(2**31) <= value < 2**31:
        raise Refusal("The value that restarts a device is a whole number of 32 bits.")
    return Restart(check_oid(oid), value)


@dataclass(frozen=True, slots=True)
class WirelessTables:
    """The columns in which a controller, or an access point of its own, tells of access points and clients.

    An access point's own table of clients has no table of access points beside it. Columns that the maker does not have are empty.

    Attributes
    ----------
    point_name, point_mac, point_address, point_model : of the table of access points
    point_state, point_up : the column that tells whether it is joined, and the number that means it is
    client_network : the name (SSID) of the network that the client is in
    client_point : names the client's access point by its index, its MAC address or its name; empty if the row's index begins with that of
        the access point
    client_mac : empty if the MAC address is the last six numbers of the row's index
    client_address, client_signal : its address, and how strongly it is received in dBm
    """

    point_name: str = ""
    point_mac: str = ""
    point_address: str = ""
    point_model: str = ""
    point_state: str = ""
    point_up: int = 1
    client_network: str = ""
    client_point: str = ""
    client_mac: str = ""
    client_address: str = ""
    client_signal: str = ""

    def columns(self, table: str) -> dict[str, str]:
        """The columns of the table ``point`` or ``client`` that there are, by their names without it."""
        named = {
            name.removeprefix(f"{table}_"): value for name, value in asdict(self).items() if name.startswith(table)
        }
        return {name: value for name, value in named.items() if isinstance(value, str) and value}


def check_wireless_tables(given: Mapping[str, Any]) -> WirelessTables | None:
    """Tables of access points and clients as they are kept; None if nothing was given.

    Raises
    ------
    Refusal
    """
    names = [each.name for each in fields(WirelessTables) if each.name != "point_up"]
    if unknown := set(given) - {*names, "point_up"}:
        raise Refusal(f"The tables of a wireless network have no column {sorted(unknown)[0]}.")
    columns = {name: str(given.get(name) or "").strip() for name in names}
    if not any(columns.values()):
        return None
    if not columns["point_name"] and any(columns[name] for name in names if name.startswith("point_")):
        raise Refusal("A table of access points needs the column of their names.")
    if not columns["client_network"] and any(columns[name] for name in names if name.startswith("client_")):
        raise Refusal("A table of wireless clients needs the column of the network that they are in.")
    up = given.get("point_up", 1)
    if not isinstance(up, int) or not -(2**31) <= up < 2**31:
        raise Refusal("The state of an access point that is joined is a whole number of 32 bits.")
    return WirelessTables(**{name: check_oid(oid) if oid else "" for name, oid in columns.items()}, point_up=up)
