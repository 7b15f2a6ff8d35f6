"""To which addresses a stored credential may be sent: a community goes over the wire as it is, to whoever is asked."""

from collections.abc import Iterable
from functools import lru_cache
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from lumtar.core.refusal import Refusal

PRIVATE = "10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, 100.64.0.0/10, 169.254.0.0/16, 127.0.0.0/8, fc00::/7, fe80::/10, ::1/128"
"""Where a network's own devices are unless somebody says otherwise (RFC 1918, RFC 6598, RFC 4193, link-local, loopback)."""
MOST = 200


@lru_cache(maxsize=1000)
def networks(ranges: str) -> tuple[IPv4Network | IPv6Network, ...]:
    """The networks of a list, separated by commas, blanks or line ends; a single address is one of its own.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    words = ranges.replace(",", " ").split()
    if len(words) > MOST:
        raise Refusal(f"These are {len(words)} ranges; at most {MOST} are kept.")
    listed = []
    for word in words:
        try:
            listed.append(ip_network(word, strict=False))
        except ValueError as error:
            raise Refusal(f"“{word[:60]}” is not a range such as 10.20.0.0/16 or 2001:db8::/32.") from error
    return tuple(listed)


def check_ranges(ranges: str) -> str:
    """A list of ranges as it is kept.

    Raises
    ------
    Refusal
    """
    return ", ".join(str(network) for network in networks(ranges.strip()))


def may_be_sent(ranges: str, address: str) -> bool:
    """Whether a credential may be sent to an address; without ranges it may be sent nowhere."""
    try:
        place = ip_address(address.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(place, "ipv4_mapped", None)
    return any((mapped or place) in network for network in networks(ranges))


def beyond(ranges: str, spans: Iterable[tuple[int, int, int]]) -> int:
    """How many addresses of some spans (version, first, last) a credential is not sent to; spans do not overlap."""
    outside = 0
    for version, first, last in spans:
        held = sorted(
            (max(first, int(each.network_address)), min(last, int(each.broadcast_address)))
            for each in networks(ranges)
            if each.version == version
        )
        reached, inside = first, 0
        for start, end in held:
            start = max(start, reached)
            if end >= start:
                inside, reached = inside + end - start + 1, end + 1
        outside += last - first + 1 - inside
    return outside


def is_address(text: str) -> bool:
    """Whether it is an address rather than a name."""
    try:
        ip_address(text.partition("%")[0])
    except ValueError:
        return False
    return True


def refusal(name: str, ranges: str, address: str) -> str:
    """Why a credential is not sent somewhere, in words."""
    where = ranges if len(ranges) <= 80 else ranges[:77] + "…"
    return f"the credential {name} is not sent to {address}: it is for {where or 'no address at all'} only"
