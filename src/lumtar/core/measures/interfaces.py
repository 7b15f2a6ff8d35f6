"""Measures of interfaces, from what they counted."""

from typing import Any

import numpy as np

from lumtar.core.measures.counts import Counts
from lumtar.core.measures.registry import Measure, register

OCTETS = ("in_octets", "out_octets")
BAD = ("in_errors", "out_errors", "in_discards", "out_discards")
PACKETS = ("in_packets", "out_packets")
FASTEST = ("in_max_bps", "out_max_bps")
VOLUME = (*OCTETS, "bridged_in_octets", "bridged_out_octets")

UPS = ("readings", "up_readings")


def _direction(counts: Counts, n: int) -> dict[str, Any]:
    """The direction that is fuller, its rate and speed."""
    inward, outward = counts.share("in")[n], counts.share("out")[n]
    way = "in" if inward > outward or np.isnan(outward) else "out"
    return {"direction": way, "bps": float(counts.rate(way)[n]), "speed_bps": float(getattr(counts, f"{way}_bps")[n])}


def _speeds(counts: Counts, n: int) -> dict[str, Any]:
    """The speed that was negotiated, and the fastest one lately."""
    return {"speed_bps": float(counts.port_bps[n]), "fastest_bps": float(counts.fastest_bps[n])}


for each in (
    Measure("load", "Utilisation", "%", "interface", lambda c: c.load(), OCTETS, True, "utilisation", _direction,
            lambda c: c.load(highest=True), FASTEST),
    Measure("peak", "Highest utilisation", "%", "interface", lambda c: c.load(highest=True), FASTEST, True,
            bound=lambda c: c.load(highest=True), bound_needs=FASTEST),
    Measure("in", "Inbound rate", "bit/s", "interface", lambda c: c.rate("in"), OCTETS[:1], True,
            bound=lambda c: c.in_max_bps, bound_needs=FASTEST[:1]),
    Measure("out", "Outbound rate", "bit/s", "interface", lambda c: c.rate("out"), OCTETS[1:], True,
            bound=lambda c: c.out_max_bps, bound_needs=FASTEST[1:]),
    Measure("volume", "Volume", "octets", "interface", lambda c: c.volume, VOLUME, True),
    Measure("errors", "Errors and discards", "", "interface", lambda c: c.errors + c.discards, BAD, True),
    Measure("error_share", "Errors and discards per million packets", "1/10⁶", "interface",
            lambda c: c.errors_per_million, (*BAD, *PACKETS), True),
    Measure("packet_size", "Mean packet size", "octets", "interface", lambda c: c.packet_octets, (*VOLUME, *PACKETS), True),
    Measure("down", "Time not up", "%", "interface", lambda c: 100.0 * (1.0 - c.up), UPS),
    Measure("speed_kept", "Speed against the fastest of 30 days", "%", "interface", lambda c: c.speed_kept,
            (*UPS, "port_bps", "fastest_bps"), alarm="speed-lowered", facts=_speeds),
    Measure("half_duplex", "Half duplex", "", "interface", lambda c: c.while_up(c.half_duplex), (*UPS, "half_duplex"),
            alarm="half-duplex"),
):  # fmt: skip
    register(each)
