"""Measures of paths, from what the probes of an interval came to."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import Measure, register
from lumtar.core.paths.voice import mos, rating

PATH = "path"


@dataclass(frozen=True, slots=True)
class Paths:
    """n intervals of paths; times are microseconds, NaN is not known.

    Attributes
    ----------
    sent, lost : probes
    mean, p95 : of round trips
    variation, jitter : RFC 3393 and RFC 3550
    longest_burst : losses in a row
    wrong : answers of services that were not the right ones
    lookup, connected, secured, first_octet : of what a service's time is made up
    certificate_days : until its certificate ends
    missed : whether a promise was missed, 1 or 0; NaN where nothing is promised just then
    allowed : the share of the time that may be missed, 0 to 1; NaN without a promise
    """

    sent: NDArray[np.int32]
    lost: NDArray[np.int32]
    mean: Floats
    p95: Floats
    variation: Floats
    jitter: Floats
    longest_burst: NDArray[np.int32]
    wrong: NDArray[np.int32]
    lookup: Floats
    connected: Floats
    secured: Floats
    first_octet: Floats
    certificate_days: Floats
    missed: Floats
    allowed: Floats


def loss(paths: Paths) -> Floats:
    """Of the probes the share that got no answer, per cent."""
    sent = np.where(paths.sent > 0, paths.sent, np.nan)
    return np.asarray(100.0 * paths.lost / sent)


def failed(paths: Paths) -> Floats:
    """Of the probes the share that got no answer or not the right one, per cent."""
    sent = np.where(paths.sent > 0, paths.sent, np.nan)
    return np.asarray(100.0 * (paths.lost + paths.wrong) / sent)


def opinion(paths: Paths) -> Floats:
    """How a call would sound (ITU-T G.107), taking one way to be half of the round trip; 1 where nothing comes through."""
    told = mos(rating(paths.mean / 2000, paths.jitter / 1000, loss(paths)))
    return np.where((paths.sent > 0) & (paths.lost == paths.sent), 1.0, told)


Of = Callable[[Paths], Floats]
MEASURES_OF: tuple[tuple[str, str, str, Of, str], ...] = (
    ("delay", "Mean round trip", "ms", lambda paths: paths.mean / 1000, "path-delay"),
    ("delay_95", "95th percentile of round trips", "ms", lambda paths: paths.p95 / 1000, "path-delay-95"),
    ("variation", "Delay variation", "ms", lambda paths: paths.variation / 1000, "path-variation"),
    ("jitter", "Jitter", "ms", lambda paths: paths.jitter / 1000, "path-jitter"),
    ("loss", "Probes lost", "%", loss, "path-loss"),
    ("burst", "Probes lost in a row", "", lambda paths: paths.longest_burst.astype("f8"), "path-burst"),
    ("mos", "Opinion score of calls", "", opinion, "path-mos"),
    ("failed", "Probes without the right answer", "%", failed, "path-failed"),
    ("lookup", "Time to look up the name", "ms", lambda paths: paths.lookup / 1000, "path-lookup"),
    ("connected", "Time to connect", "ms", lambda paths: paths.connected / 1000, "path-connected"),
    ("secured", "Time for TLS", "ms", lambda paths: paths.secured / 1000, "path-secured"),
    ("first_octet", "Time to the first octet", "ms", lambda paths: paths.first_octet / 1000, "path-first-octet"),
    ("missed", "Promise missed", "%", lambda paths: 100 * paths.missed, "path-missed"),
    ("burn", "Burn rate of the error budget", "", lambda paths: paths.missed / paths.allowed, "path-burn"),
    ("certificate", "Days until the certificate ends", "d", lambda paths: paths.certificate_days, "path-certificate"),
)
for name, words, unit, of, alarm in MEASURES_OF:
    register(Measure(f"path_{name}", words, unit, PATH, of, alarm=alarm))
