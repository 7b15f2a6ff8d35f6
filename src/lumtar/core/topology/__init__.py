"""What hangs on what: neighbours as devices tell of them, who they are, and the links that follow."""

from lumtar.core.topology.identifiers import Identifier, chassis_identifier, port_identifier
from lumtar.core.topology.links import End, Evidence, Link, Sighting, links
from lumtar.core.topology.matching import Inventory, KnownDevice, KnownPort, Match
from lumtar.core.topology.neighbours import Neighbour

__all__ = [
    "End",
    "Evidence",
    "Identifier",
    "Inventory",
    "KnownDevice",
    "KnownPort",
    "Link",
    "Match",
    "Neighbour",
    "Sighting",
    "chassis_identifier",
    "links",
    "port_identifier",
]
