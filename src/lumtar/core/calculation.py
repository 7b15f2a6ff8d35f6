"""The calculation: how one figure came about, in lines that a person can check with a pencil."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from lumtar.core.counters import VOID, Flag
from lumtar.core.measures import rates
from lumtar.core.refresh import Kind, Refresh
from lumtar.core.speeds import SpeedSource
from lumtar.core.units import rate

FLAG_WORDS = {
    Flag.FIRST: "first poll of this interface: nothing to compare with",
    Flag.RESTARTED: "the device restarted since the poll before",
    Flag.DISCONTINUITY: "the device says its counters jumped (ifCounterDiscontinuityTime)",
    Flag.WRAPPED: "a counter passed its end and was unwrapped",
    Flag.BRIDGED: "spans a gap: the volume is exact, the rate a mean over the gap",
    Flag.RISKY: "at line speed a 32-bit counter wraps within this time: the figure can be too low",
    Flag.HELD: "the device had not refreshed its counters; the next reading covers this time",
    Flag.OWN_CLOCK: "timed by the collector's clock, sysUpTime disagreed",
    Flag.IMPLAUSIBLE: "the counters moved backwards by more than the line can carry: they were set back",
    Flag.MISSING: "the device gave no octet counters",
}
SOURCE_WORDS = {
    SpeedSource.OVERRIDE: "the speed sold, set here",
    SpeedSource.HIGH_SPEED: "from ifHighSpeed",
    SpeedSource.SPEED: "from ifSpeed",
    SpeedSource.UNKNOWN: "the device does not say its speed",
    SpeedSource.EXCEEDED: "the speed that the port states is not credible: it carries more. Set the speed to see a share",
}


@dataclass(frozen=True, slots=True)
class Calculation:
    """One figure and the lines that lead to it."""

    figure: str
    lines: list[str]


COUNTS_AT_ONCE = Refresh(Kind.AT_ONCE)


def remarks(flags: int) -> list[str]:
    """What is to be known about a reading, in words."""
    return [words for flag, words in FLAG_WORDS.items() if flag & Flag(flags)]


def of_rate(
    direction: str,
    index: int,
    octets: int,
    elapsed_ms: int,
    flags: int,
    speed_bps: int,
    source: SpeedSource,
    refresh: Refresh = COUNTS_AT_ONCE,
) -> Calculation:
    """The calculation of one reading's rate.

    Parameters
    ----------
    direction : "in" or "out"
    index : ifIndex
    octets, elapsed_ms, flags : as stored
    speed_bps, source : the speed that was in force, bits per second
    refresh : how the agent refreshes its counters
    """
    known = Flag(flags)
    words = remarks(flags)
    bps = rates.bps(octets, elapsed_ms)
    if known & VOID or bps is None:
        return Calculation("no rate", words or ["nothing was counted"])
    wide = Flag.NARROW not in known
    counter = f"if{'HC' if wide else ''}{direction.capitalize()}Octets.{index}"
    lines = [
        f"{octets:,} octets counted in {elapsed_ms / 1000:.2f} s × 8",
        f"{64 if wide else 32}-bit counter {counter}" + ("" if words else ", no wrap, no restart"),
        *words,
    ]
    if line := _timing(elapsed_ms / 1000, known, refresh):
        lines.append(line)
    if speed_bps > 0:
        lines.append(f"= {100 * bps / speed_bps:.1f} % of {rate(speed_bps)}, {SOURCE_WORDS[source]}")
    else:
        lines.append(SOURCE_WORDS[SpeedSource(source)])
    return Calculation(rate(bps), lines)


def _timing(seconds: float, flags: Flag, refresh: Refresh) -> str:
    """How well the time is known in which the octets were counted; empty if it is known at once."""
    if Flag.DATED in flags:
        return f"counted over {seconds:.1f} s: this agent {refresh.words or 'refreshes its counters at intervals'}"
    if doubt := refresh.doubt_of(seconds):
        return f"this agent {refresh.words}: the rate may be off by up to {100 * doubt:.0f} %, the volume is exact"
    return "" if refresh.words else "not known yet how often this agent refreshes its counters"


SUMMED = (
    "in_octets", "out_octets", "bridged_in_octets", "bridged_out_octets", "elapsed_ms", "readings", "void_readings",
)  # fmt: skip
"""What the calculation of a sum is made from."""


def of_sum(
    direction: str,
    sums: Mapping[str, int],
    missing_s: float,
    interval_s: float,
    reasons: Sequence[str],
    speed_bps: int,
    source: SpeedSource,
    level: str,
) -> Calculation:
    """The calculation of a mean rate over several readings.

    Parameters
    ----------
    direction : "in" or "out"
    sums : the sums of SUMMED over the time
    missing_s : seconds of the time that no reading covers
    interval_s : seconds between polls
    reasons : why readings are missing, as far as gaps say so
    speed_bps, source : the speed that was in force at the end, bits per second
    level : the level that the sums were read from
    """
    measured = sums["readings"] - sums["void_readings"]
    # Polls may have been rarer then than they are now: what counts is the time that nothing covers.
    missing = max(0, round(missing_s / interval_s))
    words = f"sum of {sums['readings']:,} {'reading' if sums['readings'] == 1 else 'readings'}, {measured:,} measured"
    if missing:
        words += f", {missing:,} missing"
        words += " because of: " + "; ".join(reasons) if reasons else ", for which no reason is on record"
    kept = [] if level == "readings" else [f"kept as sums over {level}"]
    octets, elapsed_ms = sums[f"{direction}_octets"], sums["elapsed_ms"]
    bridged = sums[f"bridged_{direction}_octets"]
    across = [f"{bridged:,} octets more across gaps: in the volume, not in the rate"] if bridged else []
    bps = rates.bps(octets, elapsed_ms)
    if bps is None:
        return Calculation("no rate", [words, *across, *kept])
    lines = [f"{octets:,} octets counted in {elapsed_ms / 1000:,.0f} s × 8", words, *across, *kept]
    if speed_bps > 0:
        lines.append(f"= {100 * bps / speed_bps:.1f} % of {rate(speed_bps)}, {SOURCE_WORDS[source]}")
    return Calculation(rate(bps), lines)
