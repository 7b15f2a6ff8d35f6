"""Kinds of probes: what each of them asks, and what it can tell. How they are sent stands in ``wire``."""

from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlsplit

from lumtar.core.refusal import Refusal

RECORD_TYPES = ("A", "AAAA", "CNAME", "MX", "NS", "PTR", "SOA", "SRV", "TXT")


def _nothing(asked: str) -> None:
    if asked:
        raise Refusal("Probes of this kind ask for nothing by name.", "asked")


def _question(asked: str) -> None:
    name, _, kind = asked.partition(" ")
    if not name or (kind or "A") not in RECORD_TYPES:
        raise Refusal(
            f"Write what is asked for as a name and a type: films.example A. Types are {', '.join(RECORD_TYPES)}.",
            "asked",
        )


def _url(asked: str) -> None:
    try:
        parts = urlsplit(asked)
        is_right = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:
        is_right = False
    if not is_right or any(each.isspace() for each in asked):
        raise Refusal("Write what is asked for as an address of the web: https://films.example/health.", "asked")
    if parts.username or parts.password:
        raise Refusal("An address of the web cannot hold a password here: it would be shown to everybody.", "asked")


def told_test(asked: str) -> tuple[str, str]:
    """Owner and name of a test that a device makes itself, as they are written: with a stroke between them."""
    owner, _, name = asked.partition("/")
    return owner, name


def _test(asked: str) -> None:
    owner, name = told_test(asked)
    if not 0 < len(name.encode()) <= 32 or len(owner.encode()) > 32:
        raise Refusal(
            "Write whose test it is and what it is called, with a stroke between them: lumtar/voice.", "asked"
        )


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of probes.

    Attributes
    ----------
    port : which one is usual; 0 if there are no ports
    is_packet : one packet there and one back, so that what is told is the network's time
    needs_address : whether the address has to be given; else it comes of what is asked for
    check : raises a Refusal if what is asked for makes no sense
    is_by_device : a device measures by itself, and is asked what it remembers
    """

    name: str
    words: str
    port: int
    is_packet: bool = False
    needs_address: bool = True
    check: Callable[[str], None] = _nothing
    is_by_device: bool = False

    @property
    def least_ms(self) -> int:
        """The least time between two probes: what opens connections is not to be a burden."""
        return 20 if self.is_packet else 1000


PARTS = ("lookup", "connected", "secured", "first_octet")
"""Of a service: its name was looked up, the connection stood, TLS stood, the first octet of the answer came."""
KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        Kind("stamp", "STAMP (RFC 8762)", 862, is_packet=True),
        Kind("icmp", "ICMP echo", 0, is_packet=True),
        Kind("udp", "UDP echo (RFC 862)", 7, is_packet=True),
        Kind("tcp", "TCP connection", 443),
        Kind("dns", "DNS", 53, check=_question),
        Kind("http", "HTTP and HTTPS", 0, needs_address=False, check=_url),
        Kind(
            "device",
            "a device's own test (RFC 4560)",
            0,
            is_packet=True,
            needs_address=False,
            check=_test,
            is_by_device=True,
        ),
    )
}
"""The registry of kinds, by name."""
