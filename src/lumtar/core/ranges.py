"""Ranges of addresses that a sweep goes through, and how long that takes."""

import ipaddress
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass

from lumtar.core.refusal import Refusal

MOST = 262_144
"""Addresses of one sweep: a /14."""
Address = ipaddress.IPv4Address | ipaddress.IPv6Address


@dataclass(frozen=True, slots=True)
class Span:
    """Addresses from first to last, both included, as numbers."""

    version: int
    first: int
    last: int

    @property
    def size(self) -> int:
        """How many addresses."""
        return self.last - self.first + 1


def _span(text: str, *, boxes_only: bool) -> Span:
    try:
        if text.endswith(".*"):
            begun = text.removesuffix("*").rstrip(".*")
            octets = begun.count(".") + 1
            text = f"{begun}{'.0' * (4 - octets)}/{8 * octets}"
        if "/" in text:
            network = ipaddress.ip_network(text, strict=False)
            first, last = int(network.network_address), int(network.broadcast_address)
            # Network and broadcast address belong to no box (RFC 1122 section 3.2.1.3; RFC 3021 for a /31).
            if boxes_only and network.version == 4 and network.prefixlen < 31:
                first, last = first + 1, last - 1
            return Span(network.version, first, last)
        begin, dash, end = (part.strip() for part in text.partition("-"))
        low = ipaddress.ip_address(begin)
        if not dash:
            return Span(low.version, int(low), int(low))
        if re.fullmatch(r"\d{1,3}", end) and low.version == 4:
            end = f"{begin.rpartition('.')[0]}.{end}"
        high = ipaddress.ip_address(end)
    except ValueError as error:
        words = "is not a range: write 10.20.0.0/22, 10.20.0.10-10.20.0.99, 10.20.0.10-99 or 10.20.*"
        raise Refusal(f"“{text[:60]}” {words}.") from error
    if low.version != high.version or int(high) < int(low):
        raise Refusal(f"“{text[:60]}” ends before it begins.")
    return Span(low.version, int(low), int(high))


def spans(text: str, *, boxes_only: bool = True) -> list[Span]:
    """Spans of a text with one range a line, or separated by commas or blanks; behind # stands a remark.

    Parameters
    ----------
    boxes_only : leave out the addresses of networks that belong to no box

    Raises
    ------
    Refusal
    """
    found = []
    for line in text.splitlines():
        plain = re.sub(r"\s*-\s*", "-", line.partition("#")[0])
        found += [_span(part, boxes_only=boxes_only) for part in re.split(r"[,;\s]+", plain) if part]
    return found


def joined_spans(several: list[Span]) -> list[Span]:
    """Sorted, and without overlaps."""
    joined: list[Span] = []
    for span in sorted(several, key=lambda span: (span.version, span.first)):
        last = joined[-1] if joined else None
        if last and last.version == span.version and span.first <= last.last + 1:
            joined[-1] = Span(span.version, last.first, max(last.last, span.last))
        else:
            joined.append(span)
    return joined


@dataclass(frozen=True, slots=True)
class Ranges:
    """Addresses to go through, each once, in their order."""

    spans: tuple[Span, ...]

    def __len__(self) -> int:
        """How many addresses."""
        return sum(span.size for span in self.spans)

    def __iter__(self) -> Iterator[str]:
        """The addresses as text."""
        for span in self.spans:
            made = ipaddress.IPv4Address if span.version == 4 else ipaddress.IPv6Address
            for number in range(span.first, span.last + 1):
                yield str(made(number))

    def __contains__(self, address: object) -> bool:
        """Whether an address is among them."""
        try:
            wanted = ipaddress.ip_address(str(address).partition("%")[0])
        except ValueError:
            return False
        return any(span.version == wanted.version and span.first <= int(wanted) <= span.last for span in self.spans)


def understand(ranges: str, without: str = "") -> Ranges:
    """Ranges less exclusions.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote them: no range, or more than ``MOST`` addresses
    """
    wanted, left_out = joined_spans(spans(ranges)), joined_spans(spans(without))
    if not wanted:
        raise Refusal("There is no range yet: write one like 10.20.0.0/22.")
    kept = []
    for span in wanted:
        first = span.first
        for hole in (hole for hole in left_out if hole.version == span.version):
            if hole.last < first or hole.first > span.last:
                continue
            if hole.first > first:
                kept.append(Span(span.version, first, hole.first - 1))
            first = hole.last + 1
        if first <= span.last:
            kept.append(Span(span.version, first, span.last))
    result = Ranges(tuple(kept))
    # Not len(): a /32 of version 6 holds more than that can say.
    size = sum(span.size for span in kept)
    if not size:
        raise Refusal("Nothing is left: everything is excluded.")
    if size > MOST:
        raise Refusal(
            f"These are {size:,} addresses; a sweep goes through {MOST:,} at most. Make several smaller ones."
        )
    return result


@dataclass(frozen=True, slots=True)
class Asking:
    """How a sweep asks each address: how many questions of each sort, at which rate, with how much patience."""

    icmp: bool
    tcp_ports: int
    credentials: int
    per_second: float
    timeout_s: float
    tries: int

    @property
    def packets(self) -> int:
        """Packets that go to an address which never answers."""
        return (int(self.icmp) + self.tcp_ports + self.credentials) * self.tries


def longest(addresses: int, asking: Asking) -> float:
    """Seconds that a run takes if nothing answers, which is the worst: what the rate allows, then the last timeouts."""
    return math.ceil(addresses * asking.packets / asking.per_second) + asking.timeout_s * asking.tries


def objection(addresses: int, asking: Asking, every_s: int) -> str:
    """Why a sweep cannot be run as often as wanted; empty if it can. ``every_s`` 0 is only by hand."""
    seconds = longest(addresses, asking)
    if not every_s or seconds <= every_s:
        return ""
    return (
        f"A run can take {_spoken(seconds)}, longer than the {_spoken(every_s)} between two runs: "
        "sweep less often, ask faster, or make the ranges smaller."
    )


def _spoken(seconds: float) -> str:
    for size, unit in ((86400, "days"), (3600, "hours"), (60, "minutes")):
        if seconds >= 2 * size:
            return f"{seconds / size:.1f}".removesuffix(".0") + f" {unit}"
    return f"{seconds:.0f} seconds"
