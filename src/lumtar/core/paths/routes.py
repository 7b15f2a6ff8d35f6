"""Routes as they were traced: whether one is another one than before."""

from collections.abc import Sequence


def is_other_route(before: Sequence[str], now: Sequence[str]) -> bool:
    """Whether a route is another one than before, hop by hop.

    A hop that did not answer (an empty text) may be any, and nothing is known of what lies behind the last one that did.

    Examples
    --------
    >>> is_other_route(["192.0.2.1", "", "192.0.2.9"], ["192.0.2.1", "192.0.2.5", "192.0.2.9"])
    False
    >>> is_other_route(["192.0.2.1", "192.0.2.5"], ["192.0.2.1", "192.0.2.6"])
    True
    """
    return any(one and other and one != other for one, other in zip(before, now, strict=False))


def filled(before: Sequence[str], now: Sequence[str]) -> list[str]:
    """The same route with all that was seen of it: hops that did not answer this time as they were before, and what lies behind the last answer."""
    longest = max(len(before), len(now))
    pairs = zip([*now, *[""] * (longest - len(now))], [*before, *[""] * (longest - len(before))], strict=True)
    return [one or other for one, other in pairs]
