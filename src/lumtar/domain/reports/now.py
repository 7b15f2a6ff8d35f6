"""What Now shows: the sentence, the worst alarms, what changed, the busiest ports, every port of every site."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from heapq import nlargest

from lumtar.core.headline import Cause, Headline, Standing, headline
from lumtar.core.units import counted
from lumtar.domain.alarms import power
from lumtar.domain.alarms import queries as alarms
from lumtar.domain.alarms.over_links import UNREACHABLE
from lumtar.domain.alarms.power import DarkSite
from lumtar.domain.alarms.queries import AlarmRow
from lumtar.domain.inventory.scope import NO_SITE
from lumtar.domain.logbook.models import Entry
from lumtar.domain.reports import cells, devices, ports, sparks
from lumtar.domain.reports.cells import SiteCells
from lumtar.domain.reports.ports import PortRow

BUSIEST, CHANGES = 6, 12
SHOWN = 100
"""Alarms, of however many are active."""


@dataclass(frozen=True, slots=True)
class Overview:
    """The whole network at a time.

    Attributes
    ----------
    alarms, active : the worst of the active alarms, and how many there are in all
    lines : for alarms of interfaces, by alarm, a line of their load
    severities : the worst severity by name of the site
    """

    headline: Headline
    alarms: list[AlarmRow]
    active: int
    lines: dict[int, list[float | None]]
    changes: list[Entry]
    busiest: list[PortRow]
    sites: list[SiteCells]
    severities: dict[str, int]


def _cause(each: AlarmRow, until: datetime, dark: Mapping[int, DarkSite]) -> Cause:
    """An alarm as the opening sentence tells of it; of a site that fell silent as a whole it tells that."""
    age = (until - each.raised_at).total_seconds()
    site = dark.get(each.device_id or 0) if each.type == UNREACHABLE else None
    if site is not None:
        words = f"fell silent as a whole, {counted(site.devices, 'device').lower()}: {site.reading}"
        return Cause(site.name, words, age)
    return Cause(each.label, each.text, age)


def overview(past: datetime | None, until: datetime) -> Overview:
    """The state of the whole network.

    Parameters
    ----------
    past : a past time; None is now
    until : the same time, or now
    """
    worst, active = alarms.active(until, limit=SHOWN)
    sites = cells.of_sites(past)
    boxes, _ = devices.find(past, limit=100_000)
    standing = Standing(
        devices=len(boxes),
        answering=sum(box.reach == "answers" for box in boxes),
        ports=sum(site.used for site in sites),
        ports_up=sum(site.up for site in sites),
    )
    dark = power.dark_sites() if past is None else {}
    causes = [_cause(each, until, dark) for each in worst]
    entries = Entry.objects.filter(at__gt=until - timedelta(hours=1), at__lte=until).order_by("-at", "-id")
    loads = (pair for site in sites for pair in zip(site.loads, site.ids, strict=True) if pair[0] > 0)
    busiest, _ = ports.find(past, sort="load", only=[port for _, port in nlargest(BUSIEST, loads)])
    severities: dict[str, int] = {}
    for box in boxes:
        severities[box.site or NO_SITE] = max(severities.get(box.site or NO_SITE, 0), box.severity)
    return Overview(
        headline(causes, standing, past=past is not None, active=active),
        worst,
        active,
        sparks.of(worst, until),
        list(entries[:CHANGES]),
        busiest,
        sites,
        severities,
    )
