"""Alarms in words."""

from lumtar.core.units import counted, rate


def utilisation_text(direction: str, percent: float, bps: float, speed_bps: float, readings: int) -> str:
    """What a utilisation alarm says while it stands."""
    held = counted(readings, "reading").lower()
    return f"{percent:.0f} % full {direction}bound: {rate(bps)} of {rate(speed_bps)}, for {held} in a row"


def utilisation_cleared_text(percent: float, clear: float) -> str:
    """What it says once it is cleared."""
    return f"Back to {percent:.0f} %, below {clear:.0f} %"


def unreachable_text(reason: str) -> str:
    """What a reachability alarm says while it stands."""
    return f"Does not answer: {reason}"


def reachable_text(seconds: float, duration: str) -> str:
    """What it says once the device answers again."""
    return f"Answers again after {duration}" if seconds >= 1 else "Answers again"
