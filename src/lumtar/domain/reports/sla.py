"""What was promised of paths within a month, and what was kept: by class, path, group of paths, site, provider or transport."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.calling.hours import Hours, zone_of
from lumtar.core.paths.promises import Budget, Promise
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import maintenance
from lumtar.domain.inventory.models import Device
from lumtar.domain.paths import classes, judging
from lumtar.domain.paths.judging import COUNTS, MISSED
from lumtar.domain.paths.models import Path, ServiceClass

GROUPS = ("class", "path", "group", "site", "provider", "transport")
RECENT = timedelta(days=3)
"""The forecast takes the rest of the month to be like these days, today among them."""
NOBODY = "(none)"


@dataclass(frozen=True, slots=True)
class Whose:
    """A path as reports put it together."""

    name: str
    site: str
    provider: str
    transport: str
    groups: Sequence[str] = ()

    def names(self, by: str, service_class: str) -> Sequence[str]:
        """Under which names it is put together: one, or those of all its groups."""
        if by == "class":
            return (service_class,)
        if by == "group":
            return self.groups or (NOBODY,)
        return (str(getattr(self, "name" if by == "path" else by) or NOBODY),)


@dataclass(slots=True)
class Kept:
    """How promises of something were kept.

    Attributes
    ----------
    paths : which ones it is made up of
    counts : minutes judged, missed, available, excluded, and missed by target, added up over paths
    by_day : (2, days) minutes judged and missed on each day of the month
    recent : minutes judged and missed in the last days
    coming : minutes for which it is promised until the end of the month
    """

    name: str
    service_class: str
    share: float
    by_day: NDArray[np.int64]
    paths: set[int] = field(default_factory=set)
    counts: dict[str, int] = field(default_factory=lambda: dict.fromkeys(COUNTS, 0))
    recent: NDArray[np.int64] = field(default_factory=lambda: np.zeros(2, np.int64))
    coming: float = 0.0

    @property
    def budget(self) -> Budget:
        """How it stands, over all its paths."""
        judged, missed = self.recent.tolist()
        counts = self.counts
        recent = missed / judged if judged else np.nan
        return Budget(counts["judged"], counts["missed"], counts["judged"] + self.coming, self.share, recent)

    @property
    def days(self) -> list[float]:
        """Per cent kept on each day of the month, the first one first; NaN where nothing was judged."""
        judged, missed = self.by_day
        with np.errstate(invalid="ignore", divide="ignore"):
            return list((100 * (1 - missed / judged)).tolist())

    @property
    def available(self) -> float:
        """Per cent of the judged time in which there was any right answer."""
        return 100 * self.counts["available"] / self.counts["judged"] if self.counts["judged"] else np.nan


@dataclass(frozen=True, slots=True)
class Report:
    """A month, by something: what is furthest from its promise first."""

    start: datetime
    end: datetime
    until: datetime
    zone: str
    rows: list[Kept]


def month(text: str, zone: str) -> tuple[datetime, datetime]:
    """The begin and the end of a month such as 2026-11 on the clock of a zone.

    Raises
    ------
    Refusal
    """
    local = zone_of(zone)
    try:
        first = datetime.strptime(text, "%Y-%m").replace(tzinfo=local)
    except ValueError as error:
        raise Refusal(f"“{text[:20]}” is no month; write one like 2026-11.", "month") from error
    following = (first + timedelta(days=32)).replace(day=1)
    return first.astimezone(UTC), following.astimezone(UTC)


def report(
    start: datetime, end: datetime, now: datetime, by: str, zone: str = "UTC", only: Mapping[str, str] | None = None
) -> Report:
    """How promises were kept in a time, a row for each of what is asked for and each class.

    Parameters
    ----------
    by : one of GROUPS
    only : narrows it to a class, a site, a provider or a group, by their names
    """
    whose, named = _whose(), dict(ServiceClass.objects.values_list("pk", "name"))
    promised = classes.by_path()
    until = min(end, now.replace(minute=0, second=0, microsecond=0))
    first, last = (at.astimezone(zone_of(zone)).date() for at in (start, end - timedelta(seconds=1)))
    recent = (until - RECENT).astimezone(zone_of(zone)).date()
    rows: dict[tuple[str, str, float], Kept] = {}
    for each in judging.sums(start, end, zone):
        number, share = each["path_id"], each["share"]
        path, service_class = whose.get(number), named.get(each["service_class_id"], "a class that was deleted")
        if path is None or not _is_meant(path, service_class, only or {}):
            continue
        judged, current = (each["judged"], each["missed"]), promised.get(number)
        for name in path.names(by, service_class):
            key = name, service_class, share
            if key not in rows:
                rows[key] = Kept(*key, np.zeros((2, (last - first).days + 1), np.int64))
            kept = rows[key]
            for count in COUNTS:
                kept.counts[count] += each[count]
            kept.by_day[:, (each["day"] - first).days] += judged
            kept.recent += judged if each["day"] > recent else (0, 0)
            is_current = current is not None and (current[0], current[1].share) == (each["service_class_id"], share)
            if current and is_current and number not in kept.paths:
                # What was promised before, and is not any more, has nothing to come.
                kept.coming += _minutes(current[1], until, end)
            kept.paths.add(number)
    found = sorted(
        (kept for kept in rows.values() if kept.counts["judged"] or kept.counts["excluded"]),
        key=lambda kept: (kept.budget.left / kept.budget.allowed if kept.budget.allowed else 0.0, kept.name),
    )
    return Report(start, end, until, zone, found)


def _whose() -> dict[int, Whose]:
    rows = Path.objects.select_related("to_site", "transport")
    return {
        row.pk: Whose(
            row.name,
            row.to_site.name if row.to_site else "",
            row.transport.provider if row.transport else "",
            row.transport.name if row.transport else "",
            row.groups,
        )
        for row in rows
    }


def _is_meant(path: Whose, service_class: str, only: Mapping[str, str]) -> bool:
    told = {"class": (service_class,), "site": (path.site,), "provider": (path.provider,), "group": path.groups}
    return all(value in told[name] for name, value in only.items() if value)


def _minutes(promise: Promise, start: datetime, end: datetime) -> float:
    """For how many minutes of a time something is promised."""
    if promise.hours is None:
        return max(0.0, (end - start).total_seconds() / 60)
    return float(_minutes_within(promise.hours, int(start.timestamp() // 3600), int(end.timestamp() // 3600)))


@lru_cache(maxsize=512)
def _minutes_within(hours: Hours, first: int, last: int) -> int:
    """Minutes of some hours of the epoch that lie within hours of the week; a quarter of an hour is looked at once."""
    quarters = range(first * 4, last * 4)
    return 15 * sum(hours.includes(datetime.fromtimestamp(quarter * 900, UTC)) for quarter in quarters)


def in_maintenance(start: datetime, end: datetime) -> judging.Spans:
    """Which paths are in agreed maintenance within a time: those that begin or end at its sites, or at its devices."""
    spans = []
    for each in maintenance.calendar(start, end):
        row = each.maintenance
        devices = [device.pk for device in row.devices.all()]
        addresses = Device.objects.filter(pk__in=devices).values_list("address", flat=True)
        spans.append(([site.pk for site in row.sites.all()], list(addresses), each.start, each.end))
    return judging.in_maintenance(spans)


def columns_of(told: Report) -> dict[str, list[Any]]:
    """A report as the columns of a file."""
    rows = told.rows
    budgets = [row.budget for row in rows]
    return {
        "name": [row.name for row in rows],
        "service_class": [row.service_class for row in rows],
        "paths": [len(row.paths) for row in rows],
        "promised_percent": [row.share for row in rows],
        "kept_percent": [_known(each.kept) for each in budgets],
        "available_percent": [_known(row.available) for row in rows],
        "expected_percent": [_known(each.forecast) for each in budgets],
        "judged_minutes": [row.counts["judged"] for row in rows],
        "missed_minutes": [row.counts["missed"] for row in rows],
        "maintenance_minutes": [row.counts["excluded"] for row in rows],
        "budget_minutes": [round(each.allowed, 1) for each in budgets],
        "budget_left_minutes": [round(each.left, 1) for each in budgets],
        **{f"{column}_minutes": [row.counts[column] for row in rows] for column in MISSED.values()},
        "start": [told.start.isoformat()] * len(rows),
        "end": [told.end.isoformat()] * len(rows),
    }


def _known(value: float) -> float | None:
    return None if np.isnan(value) else round(value, 4)
