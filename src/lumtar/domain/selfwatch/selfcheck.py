"""Lumtar looks at itself: what is found, what it means, and what to do about it."""

import shutil
import socket
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.db import connection
from django.utils import timezone

from lumtar.core.levels import Level
from lumtar.core.units import duration
from lumtar.domain.alarms.models import Message
from lumtar.domain.inventory.models import Credential
from lumtar.domain.operation.registry import service
from lumtar.domain.operation.secrets import SecretUnreadable, unseal
from lumtar.domain.readings import disk, partitions
from lumtar.domain.selfwatch.health import ProcessState, health

WELL, WATCH, WRONG = "well", "watch", "wrong"
CLOCKS_APART_S = 2.0
SUMS_BEHIND_S = 1800
LEAST_FREE = 0.1
GIB = 1 << 30


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing looked at. ``state`` is well, watch or wrong; ``means`` and ``then`` are empty if all is well."""

    subject: str
    state: str
    words: str
    means: str = ""
    then: str = ""


def findings() -> list[Finding]:
    """Everything that was looked at, what is wrong first."""
    looks: list[Callable[[], Iterator[Finding]]] = [
        _database,
        _partitions,
        _sums,
        _disk,
        _clock,
        _processes,
        _jobs,
        _mail,
        _secrets,
    ]
    all_findings = [finding for look in looks for finding in look()]
    return sorted(all_findings, key=lambda finding: [WRONG, WATCH, WELL].index(finding.state))


def _one(sql: str) -> tuple[object, ...]:
    with connection.cursor() as cursor:
        cursor.execute(sql)
        row: tuple[object, ...] = cursor.fetchone()
        return row


def _number(sql: str) -> int:
    return int(str(_one(sql)[0] or 0))


def _database() -> Iterator[Finding]:
    version, size = _one("SELECT current_setting('server_version'), pg_database_size(current_database())")
    yield Finding("database", WELL, f"PostgreSQL {str(version).split()[0]}, {int(str(size)) / GIB:.1f} GiB")
    waiting = _number(
        "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'"
    )
    if waiting > 5:
        yield Finding(
            "database locks",
            WATCH,
            f"{waiting} questions wait for a lock",
            "Something holds a table for long; screens and readings may come late.",
            "Look in pg_stat_activity for the oldest transaction, and end it if it is not needed.",
        )


def _partitions() -> Iterator[Finding]:
    tomorrow = (timezone.now() + timedelta(days=1)).date()
    missing = partitions.missing(partitions.wanted(tomorrow, tomorrow, in_pieces=True))
    if missing:
        yield Finding(
            "partitions",
            WRONG,
            f"there is none for tomorrow in {', '.join(dict.fromkeys(part.table for part in missing))}",
            "From midnight (UTC) on readings could not be stored; they would wait in the collector and be dropped in the end.",
            "Start the collector: it makes them ahead. If it runs, its log says why it could not.",
        )
        return
    days = len({part.start.date() for part in partitions.existing()[partitions.IN_PIECES]})
    yield Finding("partitions", WELL, f"made ahead; readings of {days} days are kept")


def _sums() -> Iterator[Finding]:
    behind = _number(
        "SELECT floor(extract(epoch FROM now() - least((SELECT max(until) FROM readings_rolledup), (SELECT min(at) FROM readings_due))))"
    )
    waiting = _number("SELECT count(*) FROM readings_due")
    if behind <= SUMS_BEHIND_S:
        yield Finding("sums", WELL, "readings are summed up" + (f"; {waiting:,} five minutes wait" if waiting else ""))
        return
    yield Finding(
        "sums",
        WATCH,
        f"{waiting:,} five minutes wait to be summed up, the oldest for {duration(behind)}",
        "Lists and grids show what is summed up; charts read the readings meanwhile, which is slower.",
        "See whether the worker runs. After an import, or when Lumtar was off for long, it catches up by itself.",
    )


def _disk() -> Iterator[Finding]:
    usage = shutil.disk_usage(settings.VAR)
    free = usage.free / usage.total
    words = f"{usage.free / GIB:.0f} of {usage.total / GIB:.0f} GiB are free"
    daily = next(each.bytes_a_row * each.rows_a_day for each in disk.use() if each.level is Level.READINGS)
    if daily:
        words += f"; a day of readings takes {daily / (1 << 20):,.0f} MiB"
    if free > LEAST_FREE and usage.free > 3 * daily:
        yield Finding("disk", WELL, words)
        return
    yield Finding(
        "disk",
        WRONG,
        words,
        "When the disk is full the database stops, and readings are dropped once the collector's queue is full.",
        "Make room, or keep less: Setup, Storage says how long readings and their sums are kept.",
    )


def _clock() -> Iterator[Finding]:
    before = timezone.now().timestamp()
    there = float(str(_one("SELECT extract(epoch FROM clock_timestamp())")[0]))
    after = timezone.now().timestamp()
    apart = there - (before + after) / 2
    if abs(apart) < CLOCKS_APART_S:
        yield Finding("clock", WELL, "this machine's and the database's agree")
        return
    yield Finding(
        "clock",
        WRONG,
        f"the database's is {abs(apart):.1f} s {'ahead' if apart > 0 else 'behind'}",
        "Readings, alarms and the logbook get times that differ.",
        "Let both machines follow the same time server.",
    )


def _processes() -> Iterator[Finding]:
    for process in health().processes:
        if process.alive:
            yield _load(process)
            continue
        since = f" since {process.beat_at:%Y-%m-%d %H:%M:%S} UTC" if process.beat_at else ""
        yield Finding(
            process.name,
            WRONG,
            f"is not running{since}",
            service(process.kind).undone,
            f"Start it again; why it ended stands in var/log/{process.name}.log.",
        )


def _load(process: ProcessState) -> Finding:
    detail = process.detail
    if process.kind in ("receiver", "flows"):
        return _heard(process)
    if process.kind == "prober":
        return _probing(process)
    if process.kind != "collector" or not process.started_at or not process.beat_at:
        return Finding(process.name, WELL, "runs")
    runs = max(1.0, (process.beat_at - process.started_at).total_seconds())
    busy = 100 * float(detail.get("cpu_s", 0)) / runs
    lag = float(detail.get("lag_s", 0))
    words = f"{detail.get('devices', 0):,} devices, {detail.get('interfaces', 0):,} interfaces; {busy:.0f} % of a core"
    if dropped := int(detail.get("dropped_rows", 0)):
        return Finding(
            process.name,
            WATCH,
            f"{dropped:,} readings were dropped since its start",
            "The database was away for longer than readings could wait; the charts show a gap that says so.",
            "See when and why the database was away: its log, and the collector's.",
        )
    if lag > 30 or busy > 85:
        return Finding(
            process.name,
            WRONG if lag > 30 else WATCH,
            f"{words}; {duration(lag)} behind its schedule",
            "Polls come later than their interval asks; short peaks are averaged away.",
            "Poll less often where that does, or give it a faster core.",
        )
    return Finding(process.name, WELL, f"{words}, on time")


def _probing(process: ProcessState) -> Finding:
    """What a prober measures, and whether all of that is kept."""
    detail = process.detail
    if dropped := int(detail.get("dropped", 0)):
        return Finding(
            process.name,
            WATCH,
            f"{dropped:,} intervals of paths were dropped since its start",
            "The database was away for longer than they could wait; the time is missing in the paths.",
            "See when and why the database was away: its log, and the prober's.",
        )
    return Finding(
        process.name,
        WELL,
        f"measures {detail.get('paths', 0):,} paths, answered {detail.get('answered', 0):,} probes of others",
    )


def _heard(process: ProcessState) -> Finding:
    """What a receiver heard, and how much of it was not taken."""
    detail = process.detail
    is_flows = process.kind == "flows"
    what = (
        f"{int(detail.get('records', 0)):,} flow records received"
        if is_flows
        else f"{int(detail.get('taken', 0)):,} traps taken"
    )
    words = f"listens at {detail.get('listens_at', 'no address')}; {what}"
    if dropped := int(detail.get("dropped", 0)):
        return Finding(
            process.name,
            WATCH,
            f"{words}, {dropped:,} dropped since too many came at once",
            "They are missing in traffic and its shares."
            if is_flows
            else "The logbook does not have them; what they told of is noticed at the next poll.",
            "Let exporters sample, or give it a faster core."
            if is_flows
            else "See on the page of services and in the logbook which device sends so many.",
        )
    if is_flows:
        return Finding(process.name, WELL, words)
    return Finding(process.name, WELL, f"{words}, {int(detail.get('refused', 0)):,} not taken")


def _jobs() -> Iterator[Finding]:
    waiting = _number(
        "SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo' AND coalesce(scheduled_at, now()) <= now()"
    )
    failed = _number("SELECT count(*) FROM procrastinate_jobs WHERE status = 'failed'")
    if waiting > 100:
        yield Finding(
            "jobs",
            WATCH,
            f"{waiting:,} wait",
            "Mails and sums come late.",
            "See whether the worker runs and what it does.",
        )
    elif failed:
        yield Finding(
            "jobs",
            WATCH,
            f"{failed:,} have failed and are not tried again",
            "What they should have done is not done.",
            "The worker's log says why: var/log/worker.log.",
        )
    else:
        yield Finding("jobs", WELL, f"{waiting} wait" if waiting else "none waits")


def _mail() -> Iterator[Finding]:
    where = f"{settings.EMAIL_HOST} port {settings.EMAIL_PORT}"
    since = timezone.now() - timedelta(days=1)
    lost = Message.objects.filter(state=Message.State.FAILED, created_at__gt=since).count()
    try:
        socket.create_connection((settings.EMAIL_HOST, settings.EMAIL_PORT), timeout=2).close()
    except OSError as error:
        yield Finding(
            "mail",
            WRONG,
            f"the mail server at {where} does not answer ({error.strerror or error})",
            "Nobody is told of alarms by mail; mails wait for about a day, then they are given up.",
            "Start it, or set LUMTAR_MAIL_URL to one that can be reached.",
        )
        return
    if lost:
        yield Finding(
            "mail",
            WATCH,
            f"{lost:,} mails of the last day were not sent",
            "Somebody who should have been told was not.",
            "Each alarm shows which mail and why.",
        )
    else:
        yield Finding("mail", WELL, f"the server at {where} answers")


def _secrets() -> Iterator[Finding]:
    lost = []
    for credential in Credential.objects.all():
        try:
            unseal(credential.sealed)
        except SecretUnreadable:
            lost.append(credential.name)
    if lost:
        yield Finding(
            "credentials",
            WRONG,
            f"cannot be decrypted: {', '.join(lost[:5])}{' and others' if len(lost) > 5 else ''}",
            "They were encrypted with another key; devices that use them cannot be polled.",
            "Bring the old key back behind the new one in LUMTAR_KEY (separated by a comma), or enter them again.",
        )
    else:
        yield Finding("credentials", WELL, "all can be decrypted")
