"""Raising and clearing alarms, and writing down who is to be told. Each call joins its caller's transaction."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.jobs import send_mail
from lumtar.domain.alarms.models import Alarm, AlarmChange, Notification, RuleMemory


@dataclass(frozen=True, slots=True)
class Transition:
    """An alarm is raised (or its severity changes) or cleared. Resource, type and qualifier identify it."""

    device: int | None
    interface: int | None
    type: str
    qualifier: str
    severity: Severity
    text: str
    at: datetime
    rule: int | None
    mail_to: tuple[str, ...] = ()


@transaction.atomic
def apply(transitions: Iterable[Transition]) -> list[int]:
    """Carry out transitions in their order; one that changes nothing leaves no trace and tells nobody.

    Returns
    -------
    ids of the alarms that changed
    """
    changed = []
    for wanted in transitions:
        key = {
            "device_id": wanted.device,
            "interface_id": wanted.interface,
            "type": wanted.type,
            "qualifier": wanted.qualifier,
        }
        alarm = Alarm.objects.select_for_update().filter(**key).first()
        clears = wanted.severity is Severity.CLEARED
        if (alarm is None or alarm.is_cleared) and clears:
            continue
        if alarm is not None and not alarm.is_cleared and alarm.severity == wanted.severity:
            continue
        if alarm is None:
            alarm = Alarm(**key)
        if not clears:
            if alarm.pk is None or alarm.is_cleared:
                alarm.raised_at = wanted.at
            alarm.severity, alarm.text = int(wanted.severity), wanted.text
        alarm.is_cleared, alarm.changed_at, alarm.rule_id = clears, wanted.at, wanted.rule
        alarm.save()
        change = AlarmChange.objects.create(alarm=alarm, at=wanted.at, severity=wanted.severity, text=wanted.text)
        changed.append(alarm.pk)
        _tell(change, wanted.mail_to)
    return changed


def clear_device(device: int, text: str, at: datetime) -> list[int]:
    """Clear every alarm that stands at a device; nobody is told, since somebody did it."""
    standing = Alarm.objects.filter(device_id=device, is_cleared=False)
    return apply(
        [
            Transition(device, a.interface_id, a.type, a.qualifier, Severity.CLEARED, text, at, a.rule_id)
            for a in standing
        ]
    )


def _tell(change: AlarmChange, addresses: tuple[str, ...]) -> None:
    wanted = [Notification(change=change, address=address) for address in dict.fromkeys(addresses)]
    for notification in Notification.objects.bulk_create(wanted):
        send_mail.defer(notification=notification.pk)


def remember(counts: dict[tuple[int, int], int]) -> None:
    """Keep (rule, interface) -> readings in a row above the limit; 0 forgets."""
    gone = [key for key, over in counts.items() if not over]
    for rule in {rule for rule, _ in gone}:
        RuleMemory.objects.filter(rule_id=rule, interface_id__in=[i for r, i in gone if r == rule]).delete()
    RuleMemory.objects.bulk_create(
        [
            RuleMemory(rule_id=rule, interface_id=interface, over=over)
            for (rule, interface), over in counts.items()
            if over
        ],
        update_conflicts=True,
        unique_fields=["rule", "interface"],
        update_fields=["over"],
    )
