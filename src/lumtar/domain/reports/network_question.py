"""Was it the network? Everything that lay on the way between two ends within a time, and what follows from it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from django.db import connection
from django.utils import timezone

from lumtar.core.alarms.facts import sentence
from lumtar.core.refusal import Refusal
from lumtar.core.verdict import Finding, Side, Verdict, spans, verdict
from lumtar.domain.inventory.models import Device, Interface, Site
from lumtar.domain.logbook.models import Entry
from lumtar.domain.paths.models import Path
from lumtar.domain.reports import frames, ways
from lumtar.domain.reports.evidence import PAUSE_S, Asking
from lumtar.domain.reports.network import TRANSPORT, LinkEnd, MapLink
from lumtar.domain.reports.path_evidence import look_at_answers, look_at_paths, paths_between

LONGEST = timedelta(days=7)
FULL_PERCENT, MANY_ERRORS = 95.0, 1000.0
"""Of a link's capacity; errors and discards among a million packets."""
SHORTLY = timedelta(minutes=15)
MAJOR = 3
MOST = 60


@dataclass(frozen=True, slots=True)
class Told:
    """The answer to a question.

    Attributes
    ----------
    hops : the devices along the way, nearest first; ``notes`` say by what packets are routed
    timeline : all that lay on the way, in the order of its begin
    """

    start: datetime
    end: datetime
    whence: str
    whither: str
    verdict: Verdict
    hops: list[str]
    notes: list[str]
    timeline: list[Finding]
    usual: list[str]
    unseen: list[str]


def was_it_the_network(whence: str, whither: str, start: datetime, end: datetime) -> Told:
    """Look at everything between two ends within a time.

    Parameters
    ----------
    whence, whither : a site, a device, a port, an address, a MAC address, or a path by its name, for a service that is probed

    Raises
    ------
    Refusal
    """
    if not timedelta(minutes=1) <= end - start <= LONGEST:
        raise Refusal("A question is about a minute to seven days.", "start")
    services = [row for words in (whence, whither) for row in Path.objects.filter(name__iexact=words.strip())]
    begin, goal = _end(whence, "whence"), _end(whither, "whither")
    past = end if end < timezone.now() - timedelta(minutes=5) else None
    found = ways.between(begin, goal, past)
    way = found.ways[0] if found.ways else []
    places = Device.objects.in_bulk([found.start.device, found.goal.device])
    sites = tuple(places[each.device].site_id for each in (found.start, found.goal))
    asking = Asking(start, end, (sites[0], sites[1]))
    devices = _devices(found, way)
    if found.is_broken:
        names = f"{found.start.name} and {found.goal.name}"
        words = f"there is no way between {names} any more"
        asking.note("way", Side.NETWORK, words, end.timestamp(), end.timestamp(), 0.85)
    if found.yesterday:
        words = f"the way was another one a day before, by {', '.join(found.yesterday)}"
        asking.note("way", Side.NEITHER, words, start.timestamp(), start.timestamp())
    asking.unseen += [f"what happens within {each}" for each in found.unseen]
    probed = list({row.pk: row for row in (*services, *paths_between(asking.sites))}.values())
    _look_at_alarms(asking, devices, probed)
    _look_at_links(asking, way)
    _look_at_changes(asking, devices)
    look_at_paths(asking, probed)
    look_at_answers(asking)
    hops = [found.start.name, *(link.b.device for link in way)]
    timeline = sorted(asking.findings, key=lambda each: (each.start, -each.weight))[:MOST]
    told = verdict(asking.findings, asking.usual)
    return Told(
        start, end, found.start.name, found.goal.name, told, hops, found.notes, timeline, asking.usual, asking.unseen
    )


def _end(words: str, name: str) -> str:
    """What a way begins or ends at, if words name a site or a path; else the words."""
    wanted = words.strip()
    if not wanted:
        raise Refusal("Name a site, a device, a port, an address, or a path.", name)
    path = Path.objects.select_related("to_site").filter(name__iexact=wanted).first()
    site = path.to_site if path else Site.objects.filter(name__iexact=wanted).first()
    if site is None:
        return wanted
    leading = Interface.objects.filter(device__site=site, device__retired_at=None, gone_at=None, role="wan")
    port = leading.order_by("device_id").values_list("device__name", flat=True).first()
    device = (
        port or Device.objects.filter(site=site, retired_at=None).order_by("pk").values_list("name", flat=True).first()
    )
    if device is None:
        raise Refusal(f"There is no device at {site.name}.", name)
    return str(device)


def _devices(found: ways.Ways, way: Sequence[MapLink]) -> dict[int, str]:
    told = {found.start.device: found.start.name, found.goal.device: found.goal.name}
    for link in way:
        told |= {end.device_id: end.device for end in (link.a, link.b) if end.device_id is not None}
    return dict(Device.objects.filter(pk__in=told).values_list("pk", "name"))


ALARMS = """SELECT DISTINCT ON (a.id) a.id, a.type, a.label, c.severity, c.facts::json, a.resource_kind,
    extract(epoch FROM c.at)::float8, extract(epoch FROM coalesce((
        SELECT min(later.at) FROM alarms_alarmchange later WHERE later.alarm_id = a.id AND later.at > c.at AND later.severity = 0
    ), %(end)s))::float8
    FROM alarms_alarm a JOIN alarms_alarmchange c ON c.alarm_id = a.id AND c.severity > 0
    WHERE c.at < %(end)s AND (a.device_id = ANY(%(devices)s) OR (a.resource_kind = 'path' AND a.resource_id = ANY(%(paths)s)))
        AND NOT EXISTS (SELECT 1 FROM alarms_alarmchange gone WHERE gone.alarm_id = a.id AND gone.severity = 0
            AND gone.at > c.at AND gone.at <= %(start)s)
    ORDER BY a.id, c.severity DESC, c.at"""
OUTAGES = ("unreachable", "down")
"""Types of alarms by which something does not work at all; others stand beside what was measured."""


def _look_at_alarms(asking: Asking, devices: dict[int, str], probed: Sequence[Path]) -> None:
    paths = [row.pk for row in probed]
    with connection.cursor() as cursor:
        cursor.execute(ALARMS, {"start": asking.start, "end": asking.end, "devices": list(devices), "paths": paths})
        rows = cursor.fetchall()
    for number, type_, label, severity, facts, kind, since, until in rows:
        is_outage = type_ in OUTAGES and kind in ("device", "interface")
        weight = (0.9 if type_ == "unreachable" else 0.6) if is_outage and severity >= MAJOR else 0.0
        words = f"{label}: {sentence(facts)}"
        asking.note("alarm", Side.NETWORK if weight else Side.NEITHER, words, since, until, weight, f"/alarms/{number}")


def _look_at_links(asking: Asking, way: Sequence[MapLink]) -> None:
    ports = {end.port.id: end for link in way for end in (link.a, link.b) if end.port is not None}
    if not ports:
        if way:
            asking.unseen.append("what the links between carry: no port of theirs is known")
        return
    told = {}
    for measure, limit in (("load", FULL_PERCENT), ("error_share", MANY_ERRORS)):
        history = frames.of_measure(measure, list(ports), asking.start, asking.end)
        told[measure] = history
        values = history.frame.values[measure]
        for place, port in enumerate(history.subjects):
            if not np.isfinite(values[:, place]).any():
                if measure == "load":
                    asking.unseen.append(f"how full {_named(ports[port])} was")
                continue
            _look_at_port(asking, measure, limit, ports[port], history, place)
    most = told["load"].frame.values["load"]
    if np.isfinite(most).any() and np.nanmax(most) < FULL_PERCENT:
        place = int(np.nanargmax(np.nanmax(np.where(np.isfinite(most), most, -1), axis=0)))
        busiest = ports[told["load"].subjects[place]]
        asking.usual.append(
            f"no link on the way was full; the busiest was {_named(busiest)} at {np.nanmax(most):.0f} %"
        )


def _look_at_port(
    asking: Asking, measure: str, limit: float, end: LinkEnd, history: frames.History, place: int
) -> None:
    values, at = history.frame.values[measure][:, place], history.frame.at[:, place]
    step = float(history.step_s or history.frame.interval[place])
    known = np.isfinite(values)
    over = np.zeros(len(values), bool)
    over[known] = values[known] >= limit
    for since, until in spans(at[known].tolist(), over[known].tolist(), step, PAUSE_S):
        most = float(np.nanmax(values[(at > since) & (at <= until) & known]))
        share = (until - since) / (asking.end - asking.start).total_seconds()
        words = (
            f"{_named(end)} was full: {most:.0f} % of its capacity"
            if measure == "load"
            else (f"{_named(end)} had errors or discards, {most:,.0f} of a million packets")
        )
        weight = min(0.9, 0.65 + 0.25 * share) if measure == "load" else min(0.75, 0.55 + 0.2 * share)
        asking.note(
            measure, Side.NETWORK, words, since, until, weight, f"/fleet/port/{end.port.id}" if end.port else ""
        )


def _named(end: LinkEnd) -> str:
    return f"{end.device} {end.port.label}" if end.port else end.device.removeprefix(TRANSPORT)


def _look_at_changes(asking: Asking, devices: dict[int, str]) -> None:
    """What happened on the way, and shortly before."""
    entries = Entry.objects.filter(device__in=devices, at__gte=asking.start - SHORTLY, at__lt=asking.end)
    for entry in entries.order_by("at")[:MOST]:
        at, is_restart = entry.at.timestamp(), entry.kind == Entry.Kind.RESTART
        words = f"{devices[entry.device_id or 0]}: {entry.text}{f' ({entry.by})' if entry.by else ''}"
        side, weight = (Side.NETWORK, 0.5) if is_restart else (Side.NEITHER, 0.0)
        asking.note("change", side, words, at, at, weight, f"/fleet/device/{entry.device_id}")
