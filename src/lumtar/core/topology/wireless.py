"""Access points and wireless clients, as a controller or an access point of its own tells of them in its maker's tables.

No standard table of controllers is widely implemented, so a profile names the columns (:class:`lumtar.core.profiles.WirelessTables`).
"""

import ipaddress
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from lumtar.core.text import clean
from lumtar.core.topology.lldp import Column, Index, Value
from lumtar.core.topology.macs import mac_number, mac_text


@dataclass(frozen=True, slots=True)
class AccessPoint:
    """An access point that a controller knows.

    Attributes
    ----------
    key : by what the controller tells it from others: the numbers of its row's index
    mac, address : as text; empty if they are not known
    is_up : whether it is joined to the controller; None if that is not told
    """

    key: str
    name: str
    mac: str = ""
    address: str = ""
    model: str = ""
    is_up: bool | None = None


@dataclass(frozen=True, slots=True)
class Client:
    """A wireless client.

    Attributes
    ----------
    point : key of its access point; empty if it is the device itself that tells of it, or one that is not listed
    network : the name (SSID) of the wireless network that it is in
    signal_dbm : how strongly it is received; None if that is not told
    """

    mac: str
    point: str = ""
    network: str = ""
    address: str = ""
    signal_dbm: int | None = None


@dataclass(frozen=True, slots=True)
class Wireless:
    """What a device tells of its radio side."""

    points: Sequence[AccessPoint] = ()
    clients: Sequence[Client] = ()


def access_points(columns: Mapping[str, Column], up: int) -> list[AccessPoint]:
    """The access points in a controller's table.

    Parameters
    ----------
    columns : name, mac, address, model and state by row; those that the maker does not have are missing
    up : the state that means it is joined
    """
    states = columns.get("state")
    return [
        AccessPoint(
            _key(index),
            name or _key(index),
            _mac(_at(columns, "mac", index)),
            _address(_at(columns, "address", index)),
            _text(_at(columns, "model", index)),
            None if states is None or index not in states else states[index] == up,
        )
        for index, said in columns.get("name", {}).items()
        if (name := _text(said)) or index
    ]


def clients(columns: Mapping[str, Column], points: Sequence[AccessPoint]) -> list[Client]:
    """The clients in a table, each at the access point that its row names.

    A row names it by its key, its name or its MAC address in the column ``point``, or by beginning with its key. Where there is no
    column ``mac``, the last six numbers of the index are the client's MAC address.

    Parameters
    ----------
    columns : network, point, mac, address and signal by row
    """
    named = {name: each.key for each in points for name in (each.key, each.name.lower(), each.mac) if name}
    keys = {each.key for each in points}
    rows = dict.fromkeys(index for column in columns.values() for index in column)
    found: dict[str, Client] = {}
    for index in rows:
        mac = _mac(_at(columns, "mac", index)) if "mac" in columns else _mac_of_index(index)
        if not mac:
            # The row went away while the table was read, or it is no client.
            continue
        point = _named(_at(columns, "point", index), named) if "point" in columns else _begins(index, keys)
        signal = _at(columns, "signal", index)
        found[mac] = Client(
            mac,
            point,
            _text(_at(columns, "network", index)),
            _address(_at(columns, "address", index)),
            signal if isinstance(signal, int) and -150 <= signal <= 0 else None,
        )
    return list(found.values())


def _at(columns: Mapping[str, Column], name: str, index: Index) -> Value | None:
    return columns[name].get(index) if name in columns else None


def _key(index: Index) -> str:
    return ".".join(map(str, index))


def _text(value: Value | None) -> str:
    return clean(value) if isinstance(value, bytes) else ""


def _mac(value: Value | None) -> str:
    """A MAC address as six octets or as text; empty if it is none."""
    if not isinstance(value, bytes):
        return ""
    if len(value) == 6:
        return value.hex(":")
    number = mac_number(_text(value))
    return "" if number is None else mac_text(number)


def _mac_of_index(index: Index) -> str:
    last = index[-6:]
    return bytes(last).hex(":") if len(last) == 6 and all(number < 256 for number in last) else ""


def _address(value: Value | None) -> str:
    """An address as four or sixteen octets or as text; empty if it is none, or the unspecified one."""
    if not isinstance(value, bytes):
        return ""
    try:
        address = ipaddress.ip_address(value if len(value) in (4, 16) else value.decode())
    except ValueError:
        return ""
    return "" if address.is_unspecified else str(address)


def _named(value: Value | None, named: Mapping[str, str]) -> str:
    """The key of the access point that a row names; empty if it names none that is listed."""
    if isinstance(value, int):
        return named.get(str(value), "")
    return named.get(_text(value).lower()) or named.get(_mac(value), "")


def _begins(index: Index, keys: set[str]) -> str:
    """The longest key that an index begins with; empty if there is none."""
    return next((key for size in range(len(index), 0, -1) if (key := _key(index[:size])) in keys), "")
