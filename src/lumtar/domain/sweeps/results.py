"""Taking over what a run found: each box once, compared with what was known, and decided on."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from lumtar.core.admission import Outcome
from lumtar.core.identity import Identity, Known
from lumtar.core.ranges import understand
from lumtar.domain.inventory.models import Device, DeviceState, Reach
from lumtar.domain.inventory.services import retire
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce
from lumtar.domain.sweeps import admission
from lumtar.domain.sweeps.models import Finding, Run, Sweep

SAID = {
    "sys_name": "sysName",
    "sys_descr": "sysDescr",
    "sys_object_id": "sysObjectID",
    "maker": "maker",
    "model": "model",
    "serial": "serial number",
    "base_mac": "base MAC address",
}
"""What a box says of itself, in words for what changed."""


@dataclass(frozen=True, slots=True)
class Found:
    """What answered at an address. ``said`` has the fields of a finding; it is empty for what does not speak SNMP."""

    address: str
    answered: tuple[str, ...]
    credential: int | None = None
    tcp_port: int | None = None
    said: dict[str, str] = field(default_factory=dict)
    ports: int = 0

    @property
    def identity(self) -> Identity:
        """What it can be recognised by."""
        said = self.said
        return Identity(
            self.address,
            said.get("serial", ""),
            said.get("maker", ""),
            said.get("engine_id", ""),
            said.get("base_mac", ""),
            said.get("sys_name", ""),
            said.get("sys_object_id", ""),
        )


def _identity(box: Device | Finding, more: frozenset[str] = frozenset()) -> Identity:
    return Identity(
        box.address, box.serial, box.maker, box.engine_id, box.base_mac, box.sys_name, box.sys_object_id, more
    )


class Book:
    """What is known while a run goes on: the devices, and what this sweep found before and now."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self.began = timezone.now()
        self.rules = admission.ready()
        self._devices, self._findings = Known(), Known()
        for device in Device.objects.filter(retired_at=None):
            self._devices.add(device.pk, _identity(device))
        for finding in Finding.objects.filter(sweep_id=run.sweep_id):
            self._findings.add(finding.pk, _identity(finding, frozenset(finding.reasons)))

    @transaction.atomic
    def take(self, found: Found) -> Finding:
        """Write down what answered at an address."""
        known = self._findings.find(found.identity)
        if known is None:
            # Another box has taken over the address of one that was found before.
            Finding.objects.filter(sweep_id=self.run.sweep_id, address=found.address).delete()
            finding = Finding(sweep=self.run.sweep, address=found.address, first_seen=self.began)
            why = "found first"
        else:
            finding = Finding.objects.select_related("sweep__site").get(pk=known[0])
            why = "found first" if found.address == finding.address else known[1]
        again = finding.pk is not None and finding.last_seen >= self.began
        changes = [] if again else _changes(finding, found)
        self._write(finding, found, again)
        finding.reasons = {**finding.reasons, found.address: why}
        if not again:
            finding.lost_since, finding.words = None, "; ".join(changes)[:400]
            finding.state = self._state(finding, changes)
        if not finding.device_id:
            self._recognise(finding, found.identity)
        finding.last_seen = timezone.now()
        finding.save()
        admission.decide(finding, self.rules)
        if finding.device_id and finding.decision == Outcome.ADD:
            self._devices.add(finding.device_id, _identity(finding))
        finding.save()
        self._findings.add(finding.pk, _identity(finding, frozenset(finding.reasons)))
        return finding

    def _write(self, finding: Finding, found: Found, again: bool) -> None:
        answered = {*(finding.answered if again else ()), *found.answered}
        finding.answered = sorted(answered)
        finding.tcp_port = found.tcp_port or finding.tcp_port
        if found.said:
            for name, value in found.said.items():
                # Another address of the same box may show less of it.
                if value or not again:
                    setattr(finding, name, value)
            finding.credential_id, finding.ports = found.credential, found.ports

    def _state(self, finding: Finding, changes: list[str]) -> str:
        if finding.pk is None:
            return Finding.State.NEW
        return Finding.State.CHANGED if changes else Finding.State.KNOWN

    def _recognise(self, finding: Finding, identity: Identity) -> None:
        """A device of the inventory that was found is known, with the reason."""
        match = self._devices.find(identity)
        if match is not None:
            finding.device_id = match[0]
            finding.state = Finding.State.KNOWN if finding.state == Finding.State.NEW else finding.state
            finding.decision, finding.decided_by = "", ""
            finding.words = finding.words or f"is the device {finding.device}: {match[1]}"[:400]

    def close(self, complete: bool) -> dict[str, int]:
        """Count what was found. After a run through everything say what was lost, and retire what was lost for long.

        Returns
        -------
        how many are new, known, changed, lost, added, held, ignored, retired
        """
        run, now = self.run, timezone.now()
        sweep = run.sweep
        wanted = understand(sweep.ranges, sweep.without)
        with transaction.atomic():
            if not complete:
                return _count(sweep, self.began, 0)
            missing = Finding.objects.filter(sweep=sweep, last_seen__lt=self.began)
            for finding in missing:
                if finding.address not in wanted:
                    finding.delete()
                    continue
                finding.state, finding.lost_since = Finding.State.LOST, finding.lost_since or now
                finding.save(update_fields=["state", "lost_since"])
            retired = _retire_lost(sweep, now)
            return _count(sweep, self.began, retired)


def _changes(finding: Finding, found: Found) -> list[str]:
    """What a box says that it did not say in an earlier run."""
    if finding.pk is None or not found.said:
        return []
    news = [
        f"{word} is {found.said[name] or 'not said'} now, was {before}"
        for name, word in SAID.items()
        if name in found.said and (before := getattr(finding, name)) and before != found.said[name]
    ]
    if found.address not in finding.reasons:
        news.append(f"answers at {found.address} too")
    return news


def _retire_lost(sweep: Sweep, now: datetime) -> int:
    """Retire devices that no run found for the sweep's number of days and that do not answer their polls either."""
    if sweep.retire_after_days is None:
        return 0
    since = now - timedelta(days=sweep.retire_after_days)
    lost = Finding.objects.filter(sweep=sweep, lost_since__lte=since, device__retired_at=None).exclude(device=None)
    retired = 0
    for finding in lost.select_related("device"):
        if finding.device is None:
            continue
        state = DeviceState.objects.filter(device=finding.device).first()
        if state and state.reach == Reach.ANSWERS:
            continue
        retire(finding.device.pk, f"sweep {sweep.name}")
        finding.words = f"retired: lost for {sweep.retire_after_days} days"
        finding.save(update_fields=["words"])
        retired += 1
    return retired


def _count(sweep: Sweep, began: datetime, retired: int) -> dict[str, int]:
    counts = {str(state): 0 for state in Finding.State}
    decided = {str(outcome): 0 for outcome in Outcome}
    for finding in Finding.objects.filter(sweep=sweep):
        counts[finding.state] += 1
        if finding.last_seen >= began and finding.decision and (not finding.device_id or finding.first_seen >= began):
            decided[finding.decision] += 1
    return {**counts, **decided, "retired": retired}


def progress(run: Run, done: int, answered: int, packets: int) -> bool:
    """Write down how far a run is.

    Returns
    -------
    whether somebody wants it stopped
    """
    now = timezone.now()
    Run.objects.filter(pk=run.pk).update(done=done, answered=answered, packets=packets, beat_at=now)
    announce("sweeps", [run.sweep_id])
    return bool(Run.objects.filter(pk=run.pk, is_to_stop=True).exists())


@transaction.atomic
def begin(pk: int, total: int) -> bool:
    """Begin a run; False if it was stopped before, or begun by somebody else."""
    now = timezone.now()
    waiting = Run.objects.filter(pk=pk, state=Run.State.WAITING)
    if Run.objects.filter(pk=pk, is_to_stop=True).exists():
        waiting.update(state=Run.State.STOPPED, ended_at=now)
        return False
    return bool(waiting.update(state=Run.State.RUNNING, began_at=now, beat_at=now, total=total))


@transaction.atomic
def end(run: Run, state: str, counts: dict[str, int], words: str = "") -> None:
    """End a run, and say so."""
    Run.objects.filter(pk=run.pk).update(state=state, ended_at=timezone.now(), counts=counts, words=words[:400])
    new, lost, retired = (counts.get(name, 0) for name in ("new", "lost", "retired"))
    if new or retired or state == Run.State.FAILED:
        text = f"sweep {run.sweep.name} {state}: {new} new, {lost} lost"
        text += f", {retired} retired" if retired else ""
        Entry.objects.create(
            at=timezone.now(), kind=Entry.Kind.INVENTORY, text=f"{text}{': ' + words if words else ''}"[:400]
        )
        announce("logbook")
    announce("sweeps", [run.sweep_id])
