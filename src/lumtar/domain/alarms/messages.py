"""What a message says: about one alarm by the texts of its call plan, about many as a list."""

from collections.abc import Collection, Sequence
from dataclasses import replace
from typing import Any

import structlog
from django.conf import settings

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import power
from lumtar.domain.alarms.answers import token_of
from lumtar.domain.alarms.models import Alarm, AlarmChange, Consequence, Notification
from lumtar.domain.alarms.models import Message as Row
from lumtar.domain.alarms.over_links import UNREACHABLE
from lumtar.domain.calling import templates
from lumtar.domain.calling.channels.registry import Message, Told
from lumtar.domain.calling.models import CallPlan

log = structlog.get_logger()
LISTED = 50
"""Alarms of a message that are listed; the rest is counted."""
STANDARD_SUBJECT = "[{{ alarm.severity }}] {{ alarm.label }}: {{ alarm.text }}"
STANDARD_TEXT = """{{ alarm.label }}
{{ alarm.text }}{% if alarm.cause %}

It follows from {{ alarm.cause }}{% endif %}{% if alarm.note %}

{{ alarm.note }}{% endif %}


severity   {{ alarm.severity }}
type       {{ alarm.type }}
site       {{ alarm.site|default("none", true) }}
at         {{ alarm.at }}
raised     {{ alarm.raised }}{% if alarm.instructions and alarm.severity != "cleared" %}


What to do
{{ alarm.instructions }}{% endif %}"""


def compose(row: Row) -> Message:
    """A message with its text."""
    notifications = list(
        row.notifications.select_related("change__alarm__rule", "change__alarm__call__plan").order_by(
            "change__at", "pk"
        )
    )
    told = _with_causes([_told(each.change) for each in notifications])
    link, answer_link = _links(row, told)
    message = Message(f"message-{row.pk}", "", "", tuple(told), link, answer_link)
    if len(notifications) == 1:
        subject, text = _about_one(notifications[0], told[0], link)
    else:
        subject, text = _about_many(told)
    return replace(message, subject=subject, text=text)


def _told(change: AlarmChange) -> Told:
    alarm = change.alarm
    return Told(
        alarm.pk, f"{alarm.resource_kind} {alarm.resource_id}", alarm.label, alarm.site, alarm.type,
        Severity(change.severity), change.text, change.at, alarm.raised_at,
    )  # fmt: skip


def _with_causes(told: Sequence[Told]) -> list[Told]:
    """With what each follows from now: a call that was on its way when the cause became known names it."""
    raised = {each.alarm for each in told if each.severity > Severity.CLEARED}
    rows = Consequence.objects.filter(alarm_id__in=raised, ended_at=None).select_related("cause")
    causes = {row.alarm_id: f"{row.cause.label}: {row.reason}" for row in rows}
    devices = dict(_devices_of(raised)) if any(each.type == UNREACHABLE for each in told) else {}
    notes = power.notes(devices.values())
    return [
        replace(each, cause=causes.get(each.alarm, ""), note=notes.get(devices.get(each.alarm, 0), "")) for each in told
    ]


def _devices_of(alarms: Collection[int]) -> list[tuple[int, int]]:
    rows = Alarm.objects.filter(pk__in=alarms, type=UNREACHABLE).exclude(device=None)
    return [(pk, device) for pk, device in rows.values_list("pk", "device_id") if device is not None]


def _links(row: Row, told: Sequence[Told]) -> tuple[str, str]:
    """Where to look, and where to acknowledge what is still active by then."""
    address = settings.ADDRESS
    if not address or not told:
        return "", ""
    page = f"{address}/alarms/{told[0].alarm}" if len({each.alarm for each in told}) == 1 else f"{address}/alarms"
    raised = any(each.severity > Severity.CLEARED for each in told)
    # Behind the sharp sign: browsers do not send it, so it stands in nobody's log.
    return page, f"{address}/answer#{token_of(row)}" if raised else ""


def _about_one(notification: Notification, told: Told, link: str) -> tuple[str, str]:
    change = notification.change
    plan = _plan_of(change.alarm)
    kind = "clear" if told.severity is Severity.CLEARED else "raise"
    values = values_of(change, told, contact=notification.contact, step=notification.step + 1, link=link)
    own = (getattr(plan, f"{kind}_subject"), getattr(plan, f"{kind}_text")) if plan else ("", "")
    return (
        _filled(own[0], STANDARD_SUBJECT, values).replace("\n", " "),
        _filled(own[1], STANDARD_TEXT, values),
    )


def _plan_of(alarm: Alarm) -> CallPlan | None:
    """The plan that an alarm is told by; a cleared one is told by its rule's."""
    call = getattr(alarm, "call", None)
    if call is not None:
        plan: CallPlan = call.plan
        return plan
    return alarm.rule.plan if alarm.rule else None


def _filled(own: str, standard: str, values: dict[str, Any]) -> str:
    """A text of somebody's own, or the standard one if there is none or it cannot be filled in: a message must go out."""
    if own.strip():
        try:
            return templates.fill(own, values)
        except Refusal as error:
            log.warning("a text of a call plan cannot be filled in", error=error.sentence)
    return templates.fill(standard, values)


def values_of(change: AlarmChange, told: Told, *, contact: str, step: int, link: str) -> dict[str, Any]:
    """What the texts of a call plan can use."""
    alarm = change.alarm
    one = {
        "label": told.label,
        "site": told.site,
        "severity": told.severity.word,
        "text": told.text,
        "type": told.type,
        "at": f"{told.at:%Y-%m-%d %H:%M:%S} UTC",
        "raised": f"{told.raised_at:%Y-%m-%d %H:%M:%S} UTC",
        "cause": told.cause,
        "note": told.note,
        "instructions": alarm.rule.instructions if alarm.rule else "",
    }
    return {"alarm": one, "contact": contact, "step": step, "link": link}


def _about_many(told: Sequence[Told]) -> tuple[str, str]:
    raised = [each for each in told if each.severity > Severity.CLEARED]
    cleared = len(told) - len(raised)
    parts = [f"{len(raised):,} raised or worse"] if raised else []
    parts += [f"{cleared:,} cleared"] if cleared else []
    worst = max(each.severity for each in told)
    listed = sorted(told, key=lambda each: (-each.severity, each.at, each.alarm))
    lines = [
        f"{each.at:%H:%M:%S} {each.severity.word:<13} {each.label}: {each.text}{f' (follows from {each.cause})' if each.cause else ''}"
        for each in listed[:LISTED]
    ]
    lines += [f"{note}." for note in sorted({each.note for each in told if each.note})]
    if len(told) > LISTED:
        lines.append(f"and {len(told) - LISTED:,} more")
    sites = sorted({each.site for each in told if each.site})
    where = f" at {', '.join(sites[:3])}{' …' if len(sites) > 3 else ''}" if sites else ""
    return f"[{worst.word}] {len(told):,} changes of alarms: {', '.join(parts)}{where}", "\n".join(
        ["Times are UTC.", "", *lines]
    )


def preview(plan: CallPlan, change: AlarmChange) -> tuple[str, str]:
    """Subject and text that a plan would send about a change.

    Raises
    ------
    Refusal
    """
    told = _told(change)
    kind = "clear" if told.severity is Severity.CLEARED else "raise"
    values = values_of(change, told, contact="Anna", step=1, link=f"{settings.ADDRESS}/alarms/{told.alarm}")
    return (
        templates.fill(getattr(plan, f"{kind}_subject") or STANDARD_SUBJECT, values).replace("\n", " "),
        templates.fill(getattr(plan, f"{kind}_text") or STANDARD_TEXT, values),
    )
