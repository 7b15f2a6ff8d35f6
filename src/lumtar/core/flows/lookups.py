"""Looking many things up at once: interfaces by ifIndex, sites by the longest prefix."""

import ipaddress
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.records import MAPPED


@dataclass(frozen=True)
class Interfaces:
    """The interfaces of a device: numbers of the inventory by ifIndex."""

    indexes: NDArray[np.uint32]
    numbers: NDArray[np.uint32]

    @classmethod
    def of(cls, by_index: Mapping[int, int]) -> "Interfaces":
        """From a mapping."""
        order = sorted(by_index)
        return cls(np.array(order, "u4"), np.array([by_index[each] for each in order], "u4"))

    def find(self, if_index: NDArray[np.uint32]) -> NDArray[np.uint32]:
        """The number of each interface; 0 where there is none."""
        if not len(self.indexes):
            return np.zeros(len(if_index), "u4")
        place = np.minimum(np.searchsorted(self.indexes, if_index), len(self.indexes) - 1)
        return np.where(self.indexes[place] == if_index, self.numbers[place], 0).astype("u4")


@dataclass(frozen=True, slots=True)
class PrefixRanges:
    """Addresses of version 4, and first halves of addresses of version 6, from first to last, both included."""

    four: tuple[tuple[int, int], ...] = ()
    six: tuple[tuple[int, int], ...] = ()

    def __len__(self) -> int:
        return len(self.four) + len(self.six)


@dataclass(frozen=True)
class Prefixes:
    """Numbers by prefix, the longest one that fits wins. Of version 6 the first 64 bits decide.

    Kept as where each stretch of addresses begins, and the number that holds from there on.
    """

    starts_v4: NDArray[np.uint64] = field(default_factory=lambda: np.zeros(1, "u8"))
    numbers_v4: NDArray[np.uint32] = field(default_factory=lambda: np.zeros(1, "u4"))
    starts_v6: NDArray[np.uint64] = field(default_factory=lambda: np.zeros(1, "u8"))
    numbers_v6: NDArray[np.uint32] = field(default_factory=lambda: np.zeros(1, "u4"))

    @classmethod
    def of(cls, prefixes: Mapping[str, int]) -> "Prefixes":
        """From networks as text.

        Raises
        ------
        ValueError
        """
        four, six = [], []
        for text, number in prefixes.items():
            network = ipaddress.ip_network(text, strict=False)
            if network.version == 4:
                first = int(network.network_address)
                four.append((first, first + network.num_addresses - 1, network.prefixlen, number))
            elif network.prefixlen <= 64:
                first = int(network.network_address) >> 64
                six.append((first, first + (1 << (64 - network.prefixlen)) - 1, network.prefixlen, number))
        return cls(*_stretches(four), *_stretches(six))

    def ranges(self, numbers: Collection[int]) -> "PrefixRanges":
        """Where any of some numbers holds: of a prefix without the longer ones within it that have another number."""
        return PrefixRanges(
            _ranges(self.starts_v4, self.numbers_v4, numbers, 2**32 - 1),
            _ranges(self.starts_v6, self.numbers_v6, numbers, 2**64 - 1),
        )

    def find(self, hi: NDArray[np.uint64], lo: NDArray[np.uint64]) -> NDArray[np.uint32]:
        """The number of each address; 0 where no prefix fits."""
        is_four = (hi == 0) & (lo >> np.uint64(32) == np.uint64(MAPPED >> 32))
        four = self.numbers_v4[np.searchsorted(self.starts_v4, lo & np.uint64(0xFFFFFFFF), "right") - 1]
        six = self.numbers_v6[np.searchsorted(self.starts_v6, hi, "right") - 1]
        return np.where(is_four, four, six).astype("u4")


def _ranges(
    starts: NDArray[np.uint64], numbers: NDArray[np.uint32], wanted: Collection[int], last: int
) -> tuple[tuple[int, int], ...]:
    ends = [*(int(start) - 1 for start in starts[1:]), last]
    found: list[tuple[int, int]] = []
    for place in np.flatnonzero(np.isin(numbers, list(wanted))).tolist():
        first = int(starts[place])
        if found and found[-1][1] == first - 1:
            first = found.pop()[0]
        found.append((first, ends[place]))
    return tuple(found)


def _stretches(ranges: Sequence[tuple[int, int, int, int]]) -> tuple[NDArray[np.uint64], NDArray[np.uint32]]:
    """Where stretches begin and what holds there, from ranges (first, last, length of the prefix, number) that contain each other or are apart."""
    starts, numbers = [0], [0]
    open_ranges: list[tuple[int, int]] = []

    def change(at: int, number: int) -> None:
        if at > 2**64 - 1:
            return
        if starts[-1] == at:
            numbers[-1] = number
        else:
            starts.append(at)
            numbers.append(number)

    for first, last, _, number in sorted(ranges, key=lambda each: (each[0], each[2])):
        while open_ranges and open_ranges[-1][0] < first:
            ended, _ = open_ranges.pop()
            change(ended + 1, open_ranges[-1][1] if open_ranges else 0)
        open_ranges.append((last, number))
        change(first, number)
    while open_ranges:
        ended, _ = open_ranges.pop()
        change(ended + 1, open_ranges[-1][1] if open_ranges else 0)
    return np.array(starts, "u8"), np.array(numbers, "u4")
