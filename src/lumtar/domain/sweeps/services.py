"""Making, changing, starting and stopping sweeps."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.db import IntegrityError, transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from lumtar.core import ranges
from lumtar.core.devicelist import check_port
from lumtar.core.ranges import Asking, Ranges
from lumtar.core.reach import beyond
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.credentials import in_order
from lumtar.domain.inventory.models import Credential
from lumtar.domain.inventory.services import site_called
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.services import announce
from lumtar.domain.sweeps.models import Run, Sweep

JOB = "sweep"
"""The worker's task that carries a run out."""
SHORTEST, LONGEST = 300, 90 * 86400
SILENT = timedelta(seconds=60)
"""A run that says nothing for so long was left by its worker."""
State = Run.State
OPEN = (State.WAITING, State.RUNNING)


@dataclass(frozen=True, slots=True)
class SweepSpec:
    """A sweep as somebody wrote it. ``credentials`` are numbers; none tries those of the site."""

    name: str
    ranges: str
    without: str = ""
    site: str = ""
    icmp: bool = True
    tcp_ports: Sequence[int] = ()
    snmp: bool = True
    port: int = 161
    credentials: Sequence[int] = ()
    every_s: int = 0
    per_second: float = 200.0
    timeout_s: float = 1.0
    tries: int = 2
    retire_after_days: int | None = None


@dataclass(frozen=True, slots=True)
class Estimate:
    """What a sweep would be: addresses, packets to each, seconds at most, and why it cannot be, or nothing."""

    addresses: int
    packets: int
    longest_s: float
    objection: str
    remarks: list[str]


def _credentials(spec: SweepSpec) -> list[Credential]:
    if not spec.snmp:
        return []
    if not spec.credentials:
        return in_order(spec.site)
    credentials = {each.pk: each for each in Credential.objects.filter(pk__in=spec.credentials)}
    if missing := [number for number in spec.credentials if number not in credentials]:
        raise Refusal(f"There is no credential {missing[0]}; it may have been deleted meanwhile.")
    return list(credentials.values())


def _asking(spec: SweepSpec) -> Asking:
    return Asking(spec.icmp, len(spec.tcp_ports), len(_credentials(spec)), spec.per_second, spec.timeout_s, spec.tries)


def _check(spec: SweepSpec) -> Ranges:
    """The addresses of a sweep that can be kept, apart from its time.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it
    """
    if not 1 <= len(spec.name.strip()) <= 80:
        raise Refusal("A sweep's name has 1 to 80 characters.")
    understood = ranges.understand(spec.ranges, spec.without)
    for port in [*spec.tcp_ports, spec.port]:
        check_port(port)
    if len(spec.tcp_ports) > 10:
        raise Refusal("At most ten TCP ports are tried.")
    if not 1 <= spec.per_second <= 5000:
        raise Refusal("The rate must be between 1 and 5,000 packets a second.")
    if not 0.1 <= spec.timeout_s <= 10 or not 1 <= spec.tries <= 5:
        raise Refusal("An answer is waited for 0.1 to 10 seconds, in 1 to 5 tries.")
    if spec.every_s and not SHORTEST <= spec.every_s <= LONGEST:
        raise Refusal("A sweep runs every 5 minutes to every 90 days, or only by hand.")
    if spec.retire_after_days is not None and not 1 <= spec.retire_after_days <= 3650:
        raise Refusal("The lost are retired after 1 to 3,650 days, or never.")
    if not _asking(spec).packets:
        why = "there is no credential to try" if spec.snmp else "choose ICMP, a TCP port or SNMP"
        raise Refusal(f"The sweep asks nothing: {why}.")
    return understood


def estimate(spec: SweepSpec, pk: int | None = None) -> Estimate:
    """What a sweep would be, before it is kept.

    Raises
    ------
    Refusal
    """
    wanted = _check(spec)
    asking = _asking(spec)
    seconds = ranges.longest(len(wanted), asking)
    remarks = []
    for other in Sweep.objects.exclude(pk=pk or 0):
        spans = ranges.understand(other.ranges, other.without).spans
        shared = sum(
            max(0, min(one.last, two.last) - max(one.first, two.first) + 1)
            for one in wanted.spans
            for two in spans
            if one.version == two.version
        )
        if shared:
            remarks.append(f"{shared:,} of them are swept by {other.name} too; nothing is added twice.")
    places = [(span.version, span.first, span.last) for span in wanted.spans]
    for credential in _credentials(spec):
        if outside := beyond(credential.ranges, places):
            which = "none" if outside == len(wanted) else f"{len(wanted) - outside:,} of {len(wanted):,}"
            remarks.append(
                f"{credential.name} is sent to {which} of them: an administrator says to which addresses it may be."
            )
    return Estimate(len(wanted), asking.packets, seconds, ranges.objection(len(wanted), asking, spec.every_s), remarks)


@transaction.atomic
def save(spec: SweepSpec, by: str, pk: int | None = None, edition: int = 0) -> Sweep:
    """Keep a new sweep or a changed one.

    Raises
    ------
    Refusal
        with a sentence for the person who wrote it; also if a run takes longer than its interval
    Stale, Sweep.DoesNotExist
    """
    if objection := estimate(spec, pk).objection:
        raise Refusal(objection)
    sweep = Sweep() if pk is None else claim(Sweep, pk, edition)
    sweep.name, sweep.site = spec.name.strip(), site_called(spec.site)
    plain = ("ranges", "without", "icmp", "snmp", "port", "every_s", "per_second", "timeout_s", "tries")
    for name in (*plain, "retire_after_days"):
        setattr(sweep, name, getattr(spec, name))
    sweep.tcp_ports = list(dict.fromkeys(spec.tcp_ports))
    sweep.next_at = timezone.now() + timedelta(seconds=spec.every_s) if spec.every_s else None
    mark(sweep, by)
    sweep.credentials.set(_credentials(spec) if spec.credentials else [])
    note_action(f"sweep {sweep.name} {'created' if pk is None else 'changed'}", by)
    return sweep


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a sweep with what it found; devices that it added stay.

    Raises
    ------
    Refusal
        while it runs
    Sweep.DoesNotExist
    """
    sweep = Sweep.objects.select_for_update(of=("self",)).get(pk=pk)
    if sweep.runs.filter(state__in=OPEN).exists():
        raise Refusal(f"{sweep.name} runs just now; stop it first.")
    sweep.delete()
    note_action(f"sweep {sweep.name} deleted; devices that it added stay", by)


def start(pk: int, by: str) -> Run:
    """Ask for a run; the worker begins it within a second.

    Raises
    ------
    Refusal
        if it runs already
    Sweep.DoesNotExist
    """
    sweep = Sweep.objects.get(pk=pk)
    try:
        with transaction.atomic():
            made = Run.objects.create(sweep=sweep, asked_by=by[:150])
            app.configure_task(JOB, queue="sweeps").defer(run=made.pk)
    except IntegrityError as error:
        raise Refusal(f"{sweep.name} runs already.") from error
    announce("sweeps", [pk])
    return made


def stop(pk: int) -> None:
    """End a run; what it found stays.

    Raises
    ------
    Refusal
        if it does not run
    """
    if not Run.objects.filter(sweep_id=pk, state__in=OPEN).update(is_to_stop=True):
        raise Refusal("It does not run just now.")
    announce("sweeps", [pk])


def start_due(now: datetime) -> list[str]:
    """Start every sweep that is due, and give up runs that their worker left.

    Returns
    -------
    names of the sweeps that were started
    """
    left = Run.objects.filter(state=State.RUNNING, beat_at__lt=now - SILENT)
    left.update(state=State.FAILED, ended_at=now, words="the worker stopped in the middle; start it again")
    started = []
    for sweep in Sweep.objects.filter(next_at__lte=now):
        sweep.next_at = now + timedelta(seconds=sweep.every_s)
        sweep.save(update_fields=["next_at"])
        if not sweep.runs.filter(state__in=OPEN).exists():
            start(sweep.pk, by="")
            started.append(sweep.name)
    return started
