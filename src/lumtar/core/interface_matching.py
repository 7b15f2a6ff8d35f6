"""Following interfaces whose ifIndex changed (RFC 2863 section 3.1.5: it may, when the device restarts)."""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Port:
    """What an interface can be recognised by. ``key`` is the caller's own; ``is_gone`` if it was not listed last time."""

    key: int
    if_index: int
    name: str = ""
    descr: str = ""
    alias: str = ""
    mac: str = ""
    is_gone: bool = False


SIGNS: tuple[Callable[[Port], str], ...] = (
    lambda port: port.name,
    lambda port: port.mac,
    lambda port: port.alias,
    lambda port: port.descr,
)
"""By what a port is recognised that has another index now, the surest first."""


def match_interfaces(known: Sequence[Port], listed: Sequence[Port]) -> dict[int, int]:
    """Which listed port is which known one.

    A port with its old index and its old name is itself. Another one is recognised by the first
    sign that is not empty and stands for one port alone on both sides. What is left with an index
    that a known port had, which was found nowhere else, is that port with a new name.

    Returns
    -------
    key of the listed port -> key of the known one; what is not in it is new
    """
    matched: dict[int, int] = {}
    by_index = {port.if_index: port for port in known}
    for port in listed:
        before = by_index.get(port.if_index)
        if before is not None and _title(before) == _title(port):
            matched[port.key] = before.key
    for sign in SIGNS:
        _match(matched, known, listed, sign)
    taken = set(matched.values())
    for port in listed:
        before = by_index.get(port.if_index)
        if port.key not in matched and before is not None and before.key not in taken and not before.is_gone:
            matched[port.key] = before.key
    return matched


def _title(port: Port) -> str:
    return port.name or port.descr


def _match(matched: dict[int, int], known: Sequence[Port], listed: Sequence[Port], sign: Callable[[Port], str]) -> None:
    """Add the pairs that one sign tells apart among those that are still open."""
    taken = set(matched.values())
    before = [port for port in known if port.key not in taken]
    after = [port for port in listed if port.key not in matched]
    counts = Counter(sign(port) for port in before), Counter(sign(port) for port in after)
    by_sign = {sign(port): port.key for port in before}
    for port in after:
        word = sign(port)
        if word and counts[0][word] == counts[1][word] == 1:
            matched[port.key] = by_sign[word]
