"""Sets of addresses, to look many up at once; and which of many are strangers to a list of known ones."""

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.records import MAPPED
from lumtar.core.ranges import Span, joined_spans, spans

Halves = NDArray[np.uint64]
Keys = NDArray[np.bytes_]


def keys_of(hi: Halves, lo: Halves) -> Keys:
    """Addresses as octets, whose order is that of the addresses."""
    pairs = np.stack((hi, lo), axis=1).astype(">u8")
    return np.ascontiguousarray(pairs).view("S16").reshape(-1)


def _mapped(span: Span) -> list[tuple[int, int]]:
    """A range among the addresses of both versions: one of version 6 has none of version 4 in it, ::/0 neither."""
    if span.version == 4:
        return [(MAPPED | span.first, MAPPED | span.last)]
    parts = [(span.first, min(span.last, MAPPED - 1)), (max(span.first, MAPPED + 2**32), span.last)]
    return [each for each in parts if each[0] <= each[1]]


@dataclass(frozen=True)
class AddressSet:
    """Addresses of both versions as ranges that do not overlap; those of version 4 are mapped into version 6."""

    firsts: Keys = field(default_factory=lambda: np.zeros(0, "S16"))
    lasts: Keys = field(default_factory=lambda: np.zeros(0, "S16"))

    @classmethod
    @lru_cache(maxsize=256)
    def of(cls, text: str) -> "AddressSet":
        """From a text with one prefix or range a line, such as 10.20.0.0/22, 10.20.0.10-99, 10.20.* or 2001:db8::/32.

        Raises
        ------
        Refusal
        """
        ranges = sorted(part for each in joined_spans(spans(text, boxes_only=False)) for part in _mapped(each))
        return cls(*(np.array([each[end].to_bytes(16, "big") for each in ranges], "S16") for end in (0, 1)))

    def contains(self, keys: Keys) -> NDArray[np.bool_]:
        """Whether each address is among them."""
        if not len(self.firsts):
            return np.zeros(len(keys), bool)
        place = np.searchsorted(self.firsts, keys, "right") - 1
        found: NDArray[np.bool_] = (place >= 0) & (keys <= self.lasts[np.maximum(place, 0)])
        return found


@dataclass(frozen=True)
class KnownAddresses:
    """A list of addresses that are expected within a range, or (``is_deny``) of those that must not be seen anywhere.

    Attributes
    ----------
    within : where anybody else is a stranger; of a deny list it does not matter
    listed : who is known, or denied
    """

    within: AddressSet
    listed: AddressSet
    is_deny: bool = False

    def strangers(self, keys: Keys) -> NDArray[np.bool_]:
        """Which addresses are strangers."""
        listed = self.listed.contains(keys)
        return listed if self.is_deny else self.within.contains(keys) & ~listed
