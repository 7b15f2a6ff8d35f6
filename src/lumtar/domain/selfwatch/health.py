"""What Lumtar says of itself: its services, the newest data, and everything that is not being done."""

import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import connection
from django.utils import timezone

from lumtar.core.alarms.severity import Severity
from lumtar.core.units import duration
from lumtar.domain.inventory.models import DeviceState
from lumtar.domain.operation.jobs import stalled
from lumtar.domain.operation.leases import share_of
from lumtar.domain.operation.models import JobRun, Process, Share
from lumtar.domain.operation.registry import SERVICES, ServiceKind

LATE = timedelta(seconds=20)
FORGOTTEN = timedelta(days=1)
"""An instance that vanished is missed for so long."""
SETTLING = timedelta(seconds=90)
"""Time that a collector has after its start before readings are missed."""
SUMS_BEHIND = timedelta(minutes=12)
LEAST_FREE_SHARE, LEAST_FREE_BYTES = 0.05, 2 << 30
STEPPED_LATELY = timedelta(minutes=30)
LAG_S = 30.0
STUCK_S = 60.0
"""Seconds without a sign of life after which a job is stuck; the worker should have run it again before."""


@dataclass(slots=True)
class ProcessState:
    """An instance of a service, whether it lives, and what it said of itself."""

    name: str
    kind: str
    alive: bool
    beat_at: datetime | None
    started_at: datetime | None
    trouble: str
    detail: dict[str, Any]
    id: int | None = None
    """None of a kind that never ran."""

    @property
    def collector(self) -> int | None:
        """Its number as a resource, if it is a collector."""
        return self.id if self.kind == "collector" else None


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that is not being done. ``subject`` tells it from others and does not change while it lasts.

    ``collector`` is the number of the collector that it is about; without one it is about Lumtar as a whole.
    """

    subject: str
    words: str
    severity: Severity = Severity.MAJOR
    collector: int | None = None


@dataclass(slots=True)
class Health:
    """All services, the newest reading, and the sentence about it; ``troubles`` are the reasons for it, worst first."""

    ok: bool
    words: str
    troubles: list[Trouble]
    processes: list[ProcessState]
    newest_reading_at: datetime | None
    readings_fresh: bool
    waiting_jobs: int


@dataclass(frozen=True, slots=True)
class Facts:
    """What the looks at Lumtar look at."""

    now: datetime
    processes: list[ProcessState]
    newest: datetime | None
    """When a device answered last."""
    oldest_due: datetime | None
    rolled_up: datetime | None
    longest_interval_s: int
    fresh: bool
    waiting_jobs: int
    stuck_jobs: int

    def of(self, kind: str) -> list[ProcessState]:
        """The instances of a kind of service."""
        return [process for process in self.processes if process.kind == kind]


def health() -> Health:
    """The state of each service and of the newest data, and what is not being done."""
    facts = _facts()
    troubles = [trouble for look in LOOKS for trouble in look(facts)]
    troubles.sort(key=lambda trouble: -trouble.severity)
    words = troubles[0].words if troubles else "all well"
    return Health(not troubles, words, troubles, facts.processes, facts.newest, facts.fresh, facts.waiting_jobs)


def processes() -> list[ProcessState]:
    """The instances of all services."""
    now = timezone.now()
    return [state for kind in SERVICES for state in _states(kind, now)]


def _facts() -> Facts:
    now, known = timezone.now(), processes()
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT (SELECT max(answered_at) FROM inventory_devicestate),
                (SELECT max(interval_s) FROM inventory_device WHERE enabled AND retired_at IS NULL),
                (SELECT min(at) FROM readings_due), (SELECT max(until) FROM readings_rolledup),
                (SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo')"""
        )
        newest, interval, due, until, waiting = cursor.fetchone()
    stuck = len(stalled(STUCK_S))
    started = min((state.started_at for state in known if state.kind == "collector" and state.started_at), default=None)
    # After a start the newest reading may be of the run before.
    fresh = bool(newest and started and newest > started and now - newest < timedelta(seconds=2 * (interval or 60)))
    return Facts(now, known, newest, due, until, interval or 60, fresh, int(waiting), int(stuck))


def _states(kind: ServiceKind, now: datetime) -> Iterator[ProcessState]:
    """The instances of a kind, one at least: a kind that never ran is one that is not alive."""
    known = list(Process.objects.filter(kind=kind.name).order_by("name"))
    shown = [each for each in known if _is_missed(each, now)]
    # Of a kind that is stopped altogether the last one is told of.
    shown = shown or sorted(known, key=lambda each: each.beat_at)[-1:]
    for each in shown:
        alive = each.stopped_at is None and now - each.beat_at < LATE
        yield ProcessState(
            each.name, kind.name, alive, each.beat_at, each.started_at, each.trouble, each.detail, each.pk
        )
    if not shown:
        yield ProcessState(kind.name, kind.name, False, None, None, "", {})


def _is_missed(process: Process, now: datetime) -> bool:
    """Whether it runs, or should."""
    return process.stopped_at is None and now - process.beat_at < FORGOTTEN


def _services(facts: Facts) -> Iterator[Trouble]:
    for state in facts.processes:
        if not state.alive:
            since = f" since {state.beat_at:%H:%M:%S} UTC" if state.beat_at else ""
            all_gone = not any(other.alive for other in facts.of(state.kind))
            severity = Severity.CRITICAL if all_gone else Severity.MAJOR
            yield Trouble(f"service {state.name}", f"the {state.name} is not running{since}", severity, state.collector)
        elif state.trouble:
            yield Trouble(
                f"work of {state.name}", f"the {state.name}: {state.trouble}", Severity.CRITICAL, state.collector
            )


def _losses(facts: Facts) -> Iterator[Trouble]:
    for state in facts.of("collector"):
        if not state.alive:
            continue
        if dropped := state.detail.get("dropped_rows"):
            words = f"{dropped:,} readings were dropped while the database was away"
            yield Trouble(f"dropped by {state.name}", words, Severity.WARNING, state.collector)
        if refused := state.detail.get("refused_rows"):
            devices = len(state.detail.get("set_aside", {}))
            words = f"{refused:,} readings of {devices} devices could not be stored; their pages say why"
            yield Trouble(f"refused of {state.name}", words, Severity.WARNING, state.collector)
        if (lag := state.detail.get("lag_s", 0)) > LAG_S:
            yield Trouble(f"lag of {state.name}", f"the {state.name} is {lag:.0f} s behind", collector=state.collector)


def _readings(facts: Facts) -> Iterator[Trouble]:
    collectors = [state for state in facts.of("collector") if state.alive and state.started_at]
    if not collectors or facts.newest is None:
        return
    if facts.now - min(state.started_at or facts.now for state in collectors) < SETTLING:
        return
    if not facts.fresh:
        words = "no device has answered for two intervals"
        yield Trouble("readings", words, Severity.CRITICAL)
    for state in collectors:
        until = state.detail.get("stored_until")
        behind = facts.now - datetime.fromtimestamp(until, UTC) if until else timedelta()
        if behind > timedelta(seconds=2 * facts.longest_interval_s):
            words = f"nothing that {state.name} reads has been stored for {duration(behind.total_seconds())}"
            yield Trouble(f"storing of {state.name}", words, Severity.CRITICAL, state.collector)


def _sums(facts: Facts) -> Iterator[Trouble]:
    if facts.rolled_up is None:
        return
    since = min(filter(None, (facts.oldest_due, facts.rolled_up)))
    worker = next((state for state in facts.of("worker") if state.alive and state.started_at), None)
    if worker is None or facts.now - since < SUMS_BEHIND or facts.now - (worker.started_at or facts.now) < SUMS_BEHIND:
        return
    yield Trouble("sums", f"readings are not summed up since {since:%H:%M} UTC")


def _jobs(facts: Facts) -> Iterator[Trouble]:
    if facts.stuck_jobs:
        yield Trouble("jobs", f"{facts.stuck_jobs} jobs are stuck: the worker that ran them is gone")
    if not any(state.alive for state in facts.of("worker")):
        return
    for job in JobRun.objects.all():
        since = max(filter(None, (job.succeeded_at, job.failed_at)))
        late = facts.now - since > timedelta(seconds=3 * job.every_s + 120)
        name = job.task.rsplit(".", 1)[-1].replace("_", " ")
        if job.failed_at and (not job.succeeded_at or job.failed_at > job.succeeded_at):
            yield Trouble(f"job {job.task}", f"the job “{name}” fails: {job.words}")
        elif late:
            yield Trouble(f"job {job.task}", f"the job “{name}” has not run since {since:%Y-%m-%d %H:%M} UTC")


def _disk(facts: Facts) -> Iterator[Trouble]:
    try:
        usage = shutil.disk_usage(settings.VAR)
    except OSError:
        return
    if usage.free < LEAST_FREE_BYTES or usage.free < LEAST_FREE_SHARE * usage.total:
        words = f"only {usage.free / (1 << 30):.1f} GiB of disk are free"
        yield Trouble("disk", words, Severity.CRITICAL if usage.free < LEAST_FREE_BYTES // 4 else Severity.MAJOR)


def _clock(facts: Facts) -> Iterator[Trouble]:
    for state in facts.of("collector"):
        at = state.detail.get("clock_stepped_at")
        if state.alive and at and facts.now - datetime.fromtimestamp(at, UTC) < STEPPED_LATELY:
            by = float(state.detail.get("clock_step_s", 0))
            words = f"the clock of {state.name} was set {'forwards' if by > 0 else 'back'} by {abs(by):,.0f} s"
            yield Trouble(f"clock of {state.name}", words, Severity.WARNING, state.collector)


SIGHT = "sight of "
"""Begins the subject of the trouble that a collector sees none of its devices; its name follows."""
BLIND_FROM = 3
"""Devices of a collector that have to be silent, all of them, before it is taken for blind."""


def _sight(facts: Facts) -> Iterator[Trouble]:
    """A collector of whose devices none answers most likely does not see the network."""
    held = dict(Share.objects.exclude(holder=None).values_list("number", "holder_name"))
    states = DeviceState.objects.filter(device__enabled=True, device__retired_at=None, polled_at__isnull=False)
    seen: dict[str, list[bool]] = {}
    for device, silent in states.values_list("device_id", "silent_polls"):
        if name := held.get(share_of(device)):
            seen.setdefault(name, []).append(silent >= 2)
    numbers = {state.name: state.collector for state in facts.of("collector")}
    for name, silent_ones in seen.items():
        if len(silent_ones) >= BLIND_FROM and all(silent_ones):
            words = f"none of the {len(silent_ones)} devices of the collector {name} answers: it may be cut off itself"
            yield Trouble(f"{SIGHT}{name}", words, Severity.CRITICAL, numbers.get(name))


LOOKS: tuple[Callable[[Facts], Iterator[Trouble]], ...] = (
    _services,
    _readings,
    _sight,
    _losses,
    _sums,
    _jobs,
    _disk,
    _clock,
)
"""Every look at Lumtar; each yields what it finds not to be done."""
