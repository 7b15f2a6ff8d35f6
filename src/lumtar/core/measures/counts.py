"""What interfaces counted in a time: in one reading, a step of a chart, or a month."""

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.rates import Floats, bits_per_second, over, utilisation

Ints = NDArray[np.int64]
UNKNOWN = np.array(np.nan)


@dataclass(frozen=True, slots=True)
class Counts:
    """Sums over the same time; arrays of one shape, usually for n interfaces.

    Attributes
    ----------
    interface : their numbers
    in_bps, out_bps : speeds in force, bits per second; 0 where unknown
    seconds : length of the time
    elapsed_ms, bridged_ms : milliseconds measured, and spanned by readings across gaps
    in_min_bps … out_max_bps : rates of single readings, NaN where there was none
    port_bps, fastest_bps : speed that the port states, and the fastest that it had lately; NaN where unknown
    half_duplex : 1, or 0 for full duplex; NaN where unknown
    others : what was counted
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
    port_bps: Floats = field(default_factory=lambda: UNKNOWN)
    fastest_bps: Floats = field(default_factory=lambda: UNKNOWN)
    half_duplex: Floats = field(default_factory=lambda: UNKNOWN)

    @classmethod
    def of(
        cls, columns: Mapping[str, NDArray[Any]], in_bps: Floats, out_bps: Floats, *, interface: Ints, seconds: float
    ) -> "Counts":
        """Sums of some columns; of those that are not given counts are 0, others NaN: a measure has to have what it needs."""
        nothing, unknown = np.broadcast_to(np.int64(0), in_bps.shape), np.broadcast_to(np.nan, in_bps.shape)
        given: dict[str, Any] = {
            each.name: columns.get(each.name, unknown if each.type == Floats else nothing) for each in fields(cls)[4:]
        }
        return cls(interface, in_bps, out_bps, seconds, **given)

    def rate(self, way: str) -> Floats:
        """Mean bits per second, weighted by the seconds that were measured; NaN where there were none."""
        return bits_per_second(getattr(self, f"{way}_octets"), self.elapsed_ms)

    def share(self, way: str, *, highest: bool = False) -> Floats:
        """Mean (or highest single) rate in per cent of the speed; NaN where either is not known."""
        rate = getattr(self, f"{way}_max_bps") if highest else self.rate(way)
        return utilisation(rate, getattr(self, f"{way}_bps"))

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
        return over(1e6 * bad, self.in_packets + self.out_packets + bad)

    @property
    def packet_octets(self) -> Floats:
        """Mean octets a packet."""
        return over(self.volume, self.in_packets + self.out_packets)

    @property
    def measured(self) -> Floats:
        """Share of the time that was measured, 0 to 1."""
        return np.asarray(np.minimum(1.0, self.elapsed_ms / 1000.0 / max(self.seconds, 1e-9)))

    def while_up(self, value: Floats) -> Floats:
        """A value where the interface was up at some time; what it states while it is down means nothing."""
        return np.where(self.up_readings > 0, value, np.nan)

    @property
    def speed_kept(self) -> Floats:
        """The speed that was negotiated, in per cent of the fastest that the port had lately."""
        return self.while_up(over(100.0 * self.port_bps, self.fastest_bps))

    @property
    def up(self) -> Floats:
        """Share of the readings in which the interface was up, 0 to 1; NaN without readings."""
        return over(self.up_readings.astype(np.float64), self.readings)
