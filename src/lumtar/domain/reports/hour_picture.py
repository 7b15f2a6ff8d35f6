"""The hour around an alarm as a picture, for mails: what the chart of its port shows."""

import io
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import structlog

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm
from lumtar.domain.calling.channels.registry import Message
from lumtar.domain.reports import frames

log = structlog.get_logger()
BEFORE, AFTER = timedelta(minutes=50), timedelta(minutes=10)
INK, IN, OUT, PAPER, RULE = "#1c2230", "#0e7c7b", "#6b3fa0", "#f8f6f1", "#ddd7cb"


def added_to(message: Message) -> Message:
    """A message about one alarm of a port with the picture of its hour; any other as it is.

    A picture is an extra: whatever is wrong with it, the message goes out.
    """
    (told,) = message.alarms
    alarm = Alarm.objects.filter(pk=told.alarm).first()
    if alarm is None or alarm.interface_id is None or alarm.resource_kind != "interface":
        return message
    try:
        picture = of_port(alarm.interface_id, told.label, told.at, told.severity)
    except (ArithmeticError, LookupError, TypeError, ValueError, OSError) as error:
        log.warning("no picture for a mail", alarm=alarm.pk, error=str(error))
        return message
    return replace(message, picture=picture)


def of_port(interface: int, label: str, at: datetime, severity: Severity) -> bytes:
    """A PNG of the rates in and out of a port around a time; empty if nothing was measured."""
    # Half a second and some memory, which only whoever sends mails has to spend.
    from matplotlib.dates import DateFormatter
    from matplotlib.figure import Figure

    def day(when: datetime) -> float:
        """As matplotlib counts time: days of the epoch."""
        return when.timestamp() / 86_400

    start, end = at - BEFORE, at + AFTER
    rates = {way: frames.of_measure(way, [interface], start, end).frame for way in ("in", "out")}
    if not any(np.isfinite(frame.values[way]).any() for way, frame in rates.items()):
        return b""
    figure = Figure(figsize=(7.2, 2.4), dpi=100, facecolor=PAPER)
    axes = figure.add_axes((0.08, 0.14, 0.9, 0.72), facecolor=PAPER)
    for way, colour in (("in", IN), ("out", OUT)):
        frame = rates[way]
        known = frame.at[:, 0] > 0
        times = frame.at[known, 0] / 86_400
        values = frame.values[way][known, 0] / 1e6
        if way == "in":
            axes.fill_between(times, values, step="pre", color=colour, alpha=0.35, linewidth=0, label="in")
        else:
            axes.step(times, values, where="pre", color=colour, linewidth=1.4, label="out")
    axes.axvline(day(at), color=INK, linewidth=1, linestyle=":")
    axes.set_title(f"{label}, Mb/s, UTC; dotted: {severity.word} at {at:%H:%M:%S}", fontsize=9, loc="left", color=INK)
    axes.set_ylim(bottom=0)
    axes.set_xlim(day(start), day(end))
    axes.xaxis_date(tz=UTC)
    axes.xaxis.set_major_formatter(DateFormatter("%H:%M", tz=UTC))  # type: ignore[no-untyped-call]
    axes.tick_params(labelsize=8, colors=INK)
    axes.grid(color=RULE, linewidth=0.6)
    axes.legend(fontsize=8, frameon=False, loc="upper left", ncols=2)
    for side in axes.spines.values():
        side.set_color(RULE)
    out = io.BytesIO()
    figure.savefig(out, format="png", facecolor=PAPER)
    return out.getvalue()
