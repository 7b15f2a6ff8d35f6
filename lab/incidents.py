"""What went wrong in the demonstration's past, and what is wrong while it runs.

Times are seconds before (negative) or after the moment the demonstration was loaded.
"""

from dataclasses import dataclass

from lab.traffic import MORNING

HOUR, DAY = 3600.0, 86400.0
FOREVER = 1e9


@dataclass(frozen=True, slots=True)
class Silence:
    """A device does not answer; when it is back it has restarted, if it lost its power."""

    device: str
    start: float
    end: float
    restarts: bool = True


@dataclass(frozen=True, slots=True)
class Surge:
    """A port carries so much more, in bits per second."""

    device: str
    port: str
    start: float
    end: float
    in_bps: float
    out_bps: float
    from_midnight: bool = False
    """Times count from the county's midnight before the loading instead."""

    def span(self, epoch: float) -> tuple[float, float]:
        """Start and end in seconds of the epoch."""
        base = epoch - MORNING if self.from_midnight else epoch
        return base + self.start, base + self.end


@dataclass(frozen=True, slots=True)
class Decay:
    """A port's errors rise from none to so many a second."""

    device: str
    port: str
    start: float
    end: float
    errors_per_second: float


@dataclass(frozen=True, slots=True)
class Heat:
    """A device's processors are so many per cent busier."""

    device: str
    start: float
    end: float
    percent: float


@dataclass(frozen=True, slots=True)
class Odd:
    """Somebody behind a router who should not be there: a stranger, or one who scans."""

    device: str
    kind: str
    start: float
    end: float


@dataclass(frozen=True, slots=True)
class SlowServer:
    """A server takes so many milliseconds for an answer."""

    address: str
    port: int
    start: float
    end: float
    ms: float


Incident = Silence | Surge | Decay | Heat

INCIDENTS: tuple[Incident, ...] = (
    Silence("hex-wan-1", -9.3 * DAY, -9.3 * DAY + 2.5 * HOUR),
    Silence("hex-acc-1", -9.3 * DAY, -9.3 * DAY + 2.5 * HOUR),
    Silence("lin-wan-1", -8 * HOUR, -8 * HOUR + 1500),
    Silence("lin-acc-1", -8 * HOUR, -8 * HOUR + 1560),
    Silence("gar-acc-1", -26 * DAY, -26 * DAY + 5 * HOUR),
    Silence("net-acc-1", -47 * 60, 2 * HOUR),
    Surge("cen-core-1", "t3", -2 * DAY + 2 * HOUR, -2 * DAY + 3.7 * HOUR, 160e6, 2290e6, True),
    Surge("dep-core-1", "t1", -2 * DAY + 2 * HOUR, -2 * DAY + 3.7 * HOUR, 2290e6, 160e6, True),
    Surge("cen-core-1", "t3", -17 * DAY + HOUR, -17 * DAY + 4.2 * HOUR, 140e6, 2300e6, True),
    Surge("dep-core-1", "t1", -17 * DAY + HOUR, -17 * DAY + 4.2 * HOUR, 2300e6, 140e6, True),
    Surge("sal-wan-1", "wan2", -13 * HOUR, -13 * HOUR + 45 * 60, 9e6, 93e6),
    Surge("pel-wan-1", "wan1", -26 * 60, 3 * HOUR, 9e6, 136e6),
    Decay("ald-acc-2", "g24", -4 * DAY, FOREVER, 2.4),
    Decay("rus-acc-1", "g7", -21 * DAY, -20 * DAY, 0.9),
    Heat("cen-fw-1", -3.1 * DAY, FOREVER, 41.0),
)

STRANGER, SCAN = "stranger", "scan"
ODD = (
    Odd("rus-wan-1", STRANGER, -35 * 60, 3 * HOUR),
    Odd("var-wan-1", STRANGER, -5 * DAY, -5 * DAY + 2 * HOUR),
    Odd("mar-wan-1", SCAN, -9 * 60, 40 * 60),
)
"""Who is not one of the county's people; what they exchange is part of what the ports count."""
SLOW_SERVERS = (
    SlowServer("10.0.10.201", 8080, -6 * DAY, -6 * DAY + 3 * HOUR, 5_200.0),
    SlowServer("10.0.10.201", 8080, -52 * 60, 2.5 * HOUR, 4_300.0),
)
"""A catalogue server that is short of something; the network is well meanwhile."""
