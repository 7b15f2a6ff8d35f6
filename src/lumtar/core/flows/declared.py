"""Fields of flow records that no standard defines: what they tell is declared by people."""

from dataclasses import dataclass
from enum import StrEnum

MICROSECONDS = {"ns": 1e-3, "µs": 1.0, "ms": 1e3, "s": 1e6}
"""Of the units in which exporters tell."""


class Part(StrEnum):
    """What a field tells."""

    NETWORK = "network"
    """Round trip between client and server."""
    CLIENT_SIDE = "client_side"
    """Of that what lies between the client and the exporter."""
    SERVER_SIDE = "server_side"
    """Of that what lies between the exporter and the server."""
    SERVER = "server"
    """Between a request and the server's answer to it, without the network."""
    RESPONSES = "responses"
    """Of how many answers the other fields are the sums; without it each is a mean."""
    SERVER_NAME = "server_name"
    """The name of the server that a client asked for: of TLS (RFC 6066 section 3), of HTTP (RFC 9110 section 7.2)."""

    @property
    def is_time(self) -> bool:
        """Whether it is told in a unit of time."""
        return self not in (Part.RESPONSES, Part.SERVER_NAME)


@dataclass(frozen=True, slots=True)
class Declared:
    """A field of records: its element, the enterprise that defines it (0 is IANA, or version 9), what it tells, and its unit in microseconds."""

    enterprise: int
    element: int
    part: Part
    microseconds: float = 1.0
