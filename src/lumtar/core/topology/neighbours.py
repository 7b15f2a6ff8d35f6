"""A neighbour, as a device tells of it."""

from dataclasses import dataclass

from lumtar.core.topology.identifiers import Identifier


@dataclass(frozen=True, slots=True)
class Neighbour:
    """What a device learnt at one of its ports about whoever is at the other end.

    Attributes
    ----------
    if_index : of its own port; None if the device does not say which interface that is
    local_port : what it calls that port
    chassis, port : what the other end calls itself and its port
    port_descr, sys_name, sys_descr : what the other end says of itself; may be empty
    addresses : its management addresses
    """

    if_index: int | None
    local_port: str
    chassis: Identifier
    port: Identifier
    port_descr: str = ""
    sys_name: str = ""
    sys_descr: str = ""
    addresses: tuple[str, ...] = ()
