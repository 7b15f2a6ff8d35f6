"""What many interfaces counted over one time, and the measures computed from it."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Totals:
    """Sums of n interfaces over the same time.

    Attributes
    ----------
    interface : (n,) their numbers
    in_bps, out_bps : (n,) speeds in force, bits per second; 0 where unknown
    seconds : length of the time
    elapsed_ms, bridged_ms : (n,) milliseconds measured, and spanned by readings across gaps
    in_min_bps … out_max_bps : (n,) rates of single readings, NaN where there was none
    others : (n,) what was counted
    """

    interface: Ints
    in_bps: Floats
    out_bps: Floats
    seconds: float
    in_octets: Ints
    out_octets: Ints
    bridged_in_octets: Ints
    bridged_out_octets: Ints
    in_packets: Ints
    out_packets: Ints
    in_unicast: Ints
    out_unicast: Ints
    in_errors: Ints
    out_errors: Ints
    in_discards: Ints
    out_discards: Ints
    elapsed_ms: Ints
    bridged_ms: Ints
    readings: Ints
    up_readings: Ints
    void_readings: Ints
    in_min_bps: Floats
    out_min_bps: Floats
    in_max_bps: Floats
    out_max_bps: Floats
    flags: Ints

    def rate(self, way: str) -> Floats:
        """Mean bits per second, weighted by the seconds that were measured; NaN where there were none."""
        return _over(getattr(self, f"{way}_octets") * 8000.0, self.elapsed_ms)

    def share(self, way: str, *, highest: bool = False) -> Floats:
        """Mean (or highest single) rate in per cent of the speed; NaN where either is not known."""
        rate = getattr(self, f"{way}_max_bps") if highest else self.rate(way)
        return _over(100.0 * rate, getattr(self, f"{way}_bps"))

    def load(self, *, highest: bool = False) -> Floats:
        """The larger share of both directions, per cent."""
        return np.fmax(self.share("in", highest=highest), self.share("out", highest=highest))

    @property
    def volume(self) -> Floats:
        """Octets in and out, those across gaps included."""
        return (self.in_octets + self.out_octets + self.bridged_in_octets + self.bridged_out_octets).astype(np.float64)

    @property
    def errors(self) -> Floats:
        """Errors in and out."""
        return (self.in_errors + self.out_errors).astype(np.float64)

    @property
    def discards(self) -> Floats:
        """Discards in and out."""
        return (self.in_discards + self.out_discards).astype(np.float64)

    @property
    def errors_per_million(self) -> Floats:
        """Errors and discards per million packets and errors; NaN without either.

        An errored packet is counted in ifInErrors alone (RFC 2863, section 6), so it is added to the packets.
        """
        bad = self.errors + self.discards
        return _over(1e6 * bad, self.in_packets + self.out_packets + bad)

    @property
    def packet_octets(self) -> Floats:
        """Mean octets a packet."""
        return _over(self.volume, self.in_packets + self.out_packets)

    @property
    def measured(self) -> Floats:
        """Share of the time that was measured, 0 to 1."""
        return np.asarray(np.minimum(1.0, self.elapsed_ms / 1000.0 / max(self.seconds, 1e-9)))

    @property
    def up(self) -> Floats:
        """Share of the readings in which the interface was up, 0 to 1; NaN without readings."""
        return _over(self.up_readings.astype(np.float64), self.readings)


def _over(value: Floats, by: Floats | Ints) -> Floats:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(by > 0, value / by, np.nan)


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure of interfaces, and the sums that it is computed from (beside the time that was measured)."""

    needs: tuple[str, ...]
    of: Callable[[Totals], Floats]


_OCTETS = ("in_octets", "out_octets")
_BAD = ("in_errors", "out_errors", "in_discards", "out_discards")
_PACKETS = ("in_packets", "out_packets")
_VOLUME = (*_OCTETS, "bridged_in_octets", "bridged_out_octets")
MEASURES = {
    "load": Measure(_OCTETS, lambda totals: totals.load()),
    "peak": Measure(("in_max_bps", "out_max_bps"), lambda totals: totals.load(highest=True)),
    "in": Measure(_OCTETS[:1], lambda totals: totals.rate("in")),
    "out": Measure(_OCTETS[1:], lambda totals: totals.rate("out")),
    "volume": Measure(_VOLUME, lambda totals: totals.volume),
    "errors": Measure(_BAD, lambda totals: totals.errors + totals.discards),
    "error_share": Measure((*_BAD, *_PACKETS), lambda totals: totals.errors_per_million),
    "packet_size": Measure((*_VOLUME, *_PACKETS), lambda totals: totals.packet_octets),
}
"""What interfaces can be put in order by."""


def change(now: Totals, usual: Totals) -> Floats:
    """How many times their usual load interfaces carry, above or below, as a signed number of octaves (base-2 logarithm).

    Both rates are taken with a floor of 0.1 per cent of the speed (or 10 kbit/s), so that a port that is idle now and then
    does not count as changed; NaN for what is not in both.
    """
    place = {int(each): row for row, each in enumerate(usual.interface)}
    rows = np.array([place.get(int(each), -1) for each in now.interface], np.int64)
    known = rows >= 0
    found = np.full(len(rows), np.nan)
    floor = np.maximum(1e4, 0.001 * np.fmin(now.in_bps, now.out_bps))
    for way in ("in", "out"):
        before = usual.rate(way)[rows] if len(usual.interface) else np.full(len(rows), np.nan)
        octaves = np.log2(np.fmax(now.rate(way), floor) / np.fmax(before, floor))
        octaves = np.where(known & ~np.isnan(before) & ~np.isnan(now.rate(way)), octaves, np.nan)
        larger = np.isnan(found) | (np.abs(octaves) > np.abs(found))
        found = np.where(larger, octaves, found)
    return found


def ranked(values: Floats, limit: int, *, lowest: bool = False) -> Ints:
    """Places of the highest (or lowest) values in their order, unknown ones left out; equal ones keep theirs."""
    known = np.flatnonzero(~np.isnan(values))
    keys = values[known] if lowest else -values[known]
    return np.asarray(known[np.argsort(keys, kind="stable")][:limit])
