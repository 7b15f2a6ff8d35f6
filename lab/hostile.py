"""Devices that lie: each kind gives something that no MIB allows. What they give must harm nobody but themselves."""

from collections.abc import Callable

from lab.device import Device
from lab.mib import Column, text
from lumtar.wire import ber, oids

HUGE = 60_000


def _replace(device: Device, prefix: bytes, value: bytes) -> None:
    """Every row of a column, or a scalar given with its instance, has this value."""
    for column in device.mib.columns:
        if column.prefix in (prefix, prefix[:-1]) or prefix == column.prefix + b"\x00":
            column.values = lambda at, size=len(column.indexes): [value] * size  # type: ignore[misc]
            return
    raise KeyError(ber.dotted(prefix))


def _renumber(device: Device, index: int) -> None:
    """The last row of every table of interfaces has another index."""
    for column in device.mib.columns:
        if column.prefix.startswith((oids.IF_ENTRY, oids.IF_X_ENTRY)) and column.indexes:
            column.indexes = [*column.indexes[:-1], ber.subidentifiers([index])]


def _endless(device: Device) -> None:
    """A column whose rows do not end, each as large as a datagram can be."""
    rows = [ber.subidentifiers([number]) for number in range(1, 100_000)]
    value = text(b"x" * HUGE)

    class Same(list[bytes]):
        def __getitem__(self, place: object) -> bytes:  # type: ignore[override]
            return value

    device.mib.columns[:] = [
        Column(column.prefix, rows, lambda at: Same()) if column.prefix == oids.IF_ALIAS else column
        for column in device.mib.columns
    ]


HOSTILE: dict[str, Callable[[Device], None]] = {
    "uptime of 62 bits": lambda device: _replace(device, oids.SYS_UPTIME, ber.integer(2**62, ber.TIME_TICKS)),
    "uptime of 120 octets": lambda device: _replace(device, oids.SYS_UPTIME, ber.tlv(ber.TIME_TICKS, b"\x7f" * 120)),
    "negative uptime": lambda device: _replace(device, oids.SYS_UPTIME, ber.integer(-5)),
    "uptime as text": lambda device: _replace(device, oids.SYS_UPTIME, text("three days")),
    "ifNumber of 40 bits": lambda device: _replace(device, oids.IF_NUMBER, ber.integer(2**40)),
    "ifType of 40 bits": lambda device: _replace(device, oids.IF_TYPE, ber.integer(2**40)),
    "ifIndex of 40 bits": lambda device: _renumber(device, 2**40),
    "ifIndex of 32 bits": lambda device: _renumber(device, 2**32 - 1),
    "ifHighSpeed as text": lambda device: _replace(device, oids.IF_HIGH_SPEED, text("fast")),
    "ifHighSpeed of 60 bits": lambda device: _replace(device, oids.IF_HIGH_SPEED, ber.integer(2**60, ber.GAUGE32)),
    "ifOperStatus of 16 bits": lambda device: _replace(device, oids.IF_OPER_STATUS, ber.integer(100_000)),
    "ifOperStatus as text": lambda device: _replace(device, oids.IF_OPER_STATUS, text("up")),
    "ifAdminStatus of 0": lambda device: _replace(device, oids.IF_ADMIN_STATUS, ber.integer(0)),
    "octets of 100 bits": lambda device: _replace(device, oids.IF_HC_IN_OCTETS, ber.integer(2**100, ber.COUNTER64)),
    "octets as text": lambda device: _replace(device, oids.IF_HC_OUT_OCTETS, text("many")),
    "discontinuity of 63 bits": lambda device: _replace(
        device, oids.IF_COUNTER_DISCONTINUITY, ber.integer(2**63 - 1, ber.TIME_TICKS)
    ),
    "duplex of 100000": lambda device: _replace(device, oids.DOT3_DUPLEX, ber.integer(100_000)),
    "name with a zero": lambda device: _replace(device, oids.IF_NAME, text(b"g\x00\x00\x001")),
    "name that is no text": lambda device: _replace(device, oids.SYS_NAME, text(bytes(range(256)) * 3)),
    "sysName of 60 kB": lambda device: _replace(device, oids.SYS_NAME, text(b"n" * HUGE)),
    "sysObjectID cut short": lambda device: _replace(
        device, oids.SYS_OBJECT_ID, ber.tlv(ber.OBJECT_IDENTIFIER, b"\x2b\x86")
    ),
    "processor at 2 ** 31": lambda device: _replace(
        device, ber.oid_body("1.3.6.1.2.1.25.3.3.1.2"), ber.integer(2**31 - 1)
    ),
    "sensor scaled beyond measure": lambda device: _replace(
        device, ber.oid_body("1.3.6.1.2.1.99.1.1.1.2"), ber.integer(2**30)
    ),
    "endless names of 60 kB": _endless,
}
"""What each kind does to a stand-in device."""
