"""Which transport a service class uses just now between two sites, and why, and whether another one would do better."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

import numpy as np
from django.db.models import Min

from lumtar.core.measures import MEASURES
from lumtar.domain.paths import classes, judging, store
from lumtar.domain.paths.judging import Promised
from lumtar.domain.paths.models import Path, Transport
from lumtar.domain.readings.models import Newest
from lumtar.domain.reports import transport_policies
from lumtar.domain.reports.transport_policies import Policy
from lumtar.domain.topology.models import Route

LATELY = timedelta(minutes=5)
UP = 1
DEFAULTS = ("0.0.0.0/0", "::/0")


@dataclass(frozen=True, slots=True)
class Use:
    """Which of some transports is in use, and how that is known; ``is_forced`` if the port of a better one is down."""

    transport: int
    why: str
    is_forced: bool = False


@dataclass(slots=True)
class Member:
    """A path of a choice, over its transport, as it was in the last minutes. ``missed`` are the targets that it does not keep."""

    path: Path
    delay_ms: float = np.nan
    loss_percent: float = np.nan
    jitter_ms: float = np.nan
    missed: list[str] = field(default_factory=list)
    is_measured: bool = False

    @property
    def keeps(self) -> bool:
        """Whether it keeps what is promised."""
        return self.is_measured and not self.missed


@dataclass(slots=True)
class Choice:
    """What a service class may use between two sites: paths over several transports.

    Attributes
    ----------
    advice : what should be done, if what is in use does not keep what is promised
    """

    site: str
    service_class: str
    members: list[Member]
    use: Use | None
    advice: str = ""


def in_use(transports: Iterable[Transport]) -> dict[int, Use]:
    """By site the transport that traffic takes now: where its router sends what it knows no better way for, unless that port is down."""
    ports = {row.interface_id: row for row in transports if row.interface_id is not None and row.site_id is not None}
    oper = dict(Newest.objects.filter(pk__in=ports).values_list("pk", "oper"))
    routes = Route.objects.filter(interface__in=ports, network__in=DEFAULTS, gone_at=None, is_discarding=False)
    metrics = dict(routes.values_list("interface_id").annotate(Min("metric")))
    by_site: defaultdict[int, list[Transport]] = defaultdict(list)
    for row in ports.values():
        by_site[row.site_id or 0].append(row)
    found = {}
    for site, rows in by_site.items():
        ordered = sorted(
            (row for row in rows if row.interface_id in metrics), key=lambda row: (metrics[row.interface_id], row.pk)
        )
        alive = [row for row in ordered if oper.get(row.interface_id or 0, UP) == UP]
        if not alive:
            continue
        first, chosen = ordered[0], alive[0]
        if chosen is not first:
            found[site] = Use(chosen.pk, f"the port of {first} is down", is_forced=True)
            continue
        without = [str(row) for row in rows if row.interface_id not in metrics]
        why = (
            f"its router has no way over {', '.join(without)}"
            if without
            else (f"its router sends everything over {first} (metric {metrics[first.interface_id]})")
        )
        found[site] = Use(chosen.pk, why)
    return found


def by_policy(transports: Iterable[Transport], used: Mapping[int, Use]) -> dict[tuple[int, int], Use]:
    """By site and service class what a class takes there because a policy of a controller says so, whatever its site does."""
    policies = transport_policies.by_class()
    by_number = {row.pk: row for row in transports}
    ports = {row.interface_id for row in by_number.values()} - {None}
    down = set(Newest.objects.filter(pk__in=ports).exclude(oper=UP).values_list("pk", flat=True))
    rows = Path.objects.filter(transport__in=by_number, transport__site__isnull=False, enabled=True)
    measured: defaultdict[tuple[int, int], list[Transport]] = defaultdict(list)
    names = {}
    told = rows.values_list("transport__site", "service_class", "service_class__name", "transport")
    for site, service_class, name, transport in told.filter(service_class__isnull=False).distinct():
        measured[site, service_class].append(by_number[transport])
        names[service_class] = name.lower()
    found = {
        (site, service_class): _ruled(policies[names[service_class]], over, used.get(site), down)
        for (site, service_class), over in measured.items()
        if names[service_class] in policies
    }
    return {key: use for key, use in found.items() if use is not None}


def _ruled(policy: Policy, transports: Sequence[Transport], use: Use | None, down: Collection[int]) -> Use | None:
    """What a class takes by its policy; the site's own choice where the port of that one is down; None if the policy speaks of none."""
    first = policy.chosen(transports)
    if first is None:
        return None
    if first.interface_id not in down:
        return Use(first.pk, f"{policy} takes it first")
    return Use(use.transport, f"{policy} takes {first} first, whose port is down", is_forced=True) if use else None


def choices(now: datetime) -> list[Choice]:
    """Every service class that has several transports between two sites, those that need something first."""
    transports = list(Transport.objects.all())
    used = in_use(transports)
    ruled = by_policy(transports, used)
    rows = Path.objects.filter(transport__isnull=False, service_class__isnull=False, enabled=True)
    groups: defaultdict[tuple[int | None, ...], list[Path]] = defaultdict(list)
    for row in rows.select_related("to_site", "service_class", "transport"):
        groups[row.from_site_id, row.to_site_id, row.service_class_id].append(row)
    several = [paths for paths in groups.values() if len({row.transport_id for row in paths}) > 1]
    members = _members([row for paths in several for row in paths], now)
    found = []
    for paths in several:
        mine = sorted((members[row.pk] for row in paths), key=lambda each: str(each.path.transport))
        sites = [row.transport.site_id for row in paths if row.transport and row.transport.site_id is not None]
        uses = [ruled.get((site, paths[0].service_class_id or 0)) or used.get(site) for site in sites]
        service_class, use = str(paths[0].service_class), next((use for use in uses if use is not None), None)
        choice = Choice(str(paths[0].to_site or ""), service_class, mine, use)
        choice.advice = advice(choice)
        found.append(choice)
    return sorted(found, key=lambda each: (not each.advice, each.site, each.service_class))


def advice(choice: Choice) -> str:
    """What should be done if the transport in use does not keep what is promised; empty if it does, or nothing is known."""
    if choice.use is None:
        return ""
    current = next((each for each in choice.members if each.path.transport_id == choice.use.transport), None)
    if current is None or not current.is_measured or current.keeps:
        return ""
    missed = " and ".join(MEASURES[name].words.lower() for name in current.missed)
    others = [each for each in choice.members if each is not current]
    better = sorted((each for each in others if each.keeps), key=lambda each: each.delay_ms)
    if not better:
        return f"{current.path.transport} misses {missed}; no other transport keeps it either."
    best = better[0]
    return (
        f"{current.path.transport} misses {missed}; {best.path.transport} would keep it"
        f" ({best.delay_ms:.0f} ms, {best.loss_percent:.1f} % lost). The network has not moved it."
    )


def _members(paths: Sequence[Path], now: datetime) -> dict[int, Member]:
    """Paths as they were in the last minutes."""
    found = {row.pk: Member(row) for row in paths}
    rows = store.read(found, now - LATELY, now)
    promised = classes.by_path()
    for number, told in figures(rows, promised).items():
        member = found[number]
        member.is_measured = True
        member.delay_ms, member.jitter_ms, member.loss_percent, member.missed = told
    return found


Figures = tuple[float, float, float, list[str]]
"""95th percentile of round trips and jitter in milliseconds, per cent lost, and which targets are missed."""


def figures(rows: store.Rows, promised: Promised) -> dict[int, Figures]:
    """Of each path what its intervals came to together."""
    whole = store.joined(rows)
    frame = judging.frame_of(whole, promised)
    columns = [MEASURES[name].of(frame).tolist() for name in ("path_delay_95", "path_jitter", "path_loss")]
    missed = judging.missed_targets(whole, promised)
    return dict(zip(whole["path"].tolist(), zip(*columns, missed, strict=True), strict=True))
