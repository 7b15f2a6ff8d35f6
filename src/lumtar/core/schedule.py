"""When each device is polled: at the same phase of its interval every time, phases spread evenly."""

import math

GOLDEN = (math.sqrt(5.0) - 1.0) / 2.0
TOGETHER = 0.5
"""Seconds between two moments at which polls begin: reading many devices side by side costs less than one by one."""
CONFIRM_AFTER = 10.0
"""Seconds until a device that fell silent is asked again, if its interval is longer."""


def phase(device: int, interval: float) -> float:
    """The device's offset into its interval, in seconds: multiples of the golden ratio are spread evenly."""
    return math.floor((device * GOLDEN % 1.0) * interval / TOGETHER) * TOGETHER


def next_poll(device: int, interval: float, now: float) -> float:
    """The first time after ``now`` at which the device is due (seconds of the epoch)."""
    offset = phase(device, interval)
    turns = math.floor((now - offset) / interval) + 1
    due = turns * interval + offset
    return due if due > now else due + interval
