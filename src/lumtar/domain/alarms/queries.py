"""What can be asked about alarms, now and at any past time."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import connection

from lumtar.core.alarms.density import Bucket, density, stands
from lumtar.core.alarms.facts import sentence
from lumtar.domain.alarms.actions import ACKNOWLEDGED, SHELVED
from lumtar.domain.alarms.models import Alarm, AlarmAction, Notification
from lumtar.domain.operation.resources import page

SELECT = """
SELECT a.id, a.type, a.resource_kind, a.resource_id, a.label, a.site, a.device_id, a.interface_id, c.severity, c.facts::json,
    c.at AS changed_at, coalesce(r.at, a.raised_at) AS raised_at, rule.name AS rule, plan.name AS plan,
    n.notified, n.state AS message_state, ack.by AS acknowledged_by, CASE WHEN ack.by IS NOT NULL THEN ack.at END AS acknowledged_at, shelf.by AS shelved_by,
    shelf.until AS shelved_until, shelf.kind AS shelf,
    consequence.cause_id, consequence.reason, coalesce(follows.count, 0) AS consequences,
    coalesce(raises.count, 0) AS raised_lately{more}
FROM alarms_alarm a
LEFT JOIN alarms_rule rule ON rule.id = a.rule_id
LEFT JOIN calling_callplan plan ON plan.id = rule.plan_id
JOIN LATERAL (SELECT * FROM alarms_alarmchange WHERE alarm_id = a.id AND at <= %(at)s ORDER BY at DESC, id DESC LIMIT 1) c ON true
LEFT JOIN LATERAL (
    SELECT min(at) AS at FROM alarms_alarmchange WHERE alarm_id = a.id AND at <= c.at AND severity > 0
        AND at > coalesce((SELECT max(at) FROM alarms_alarmchange WHERE alarm_id = a.id AND severity = 0 AND at < c.at), '-infinity')
) r ON true
LEFT JOIN LATERAL (
    SELECT string_agg(DISTINCT n.contact, ', ' ORDER BY n.contact) AS notified, min(coalesce(m.state, 'pending')) AS state
    FROM alarms_notification n LEFT JOIN alarms_message m ON m.id = n.message_id WHERE n.change_id = c.id
) n ON true
LEFT JOIN LATERAL (
    SELECT cause_id, reason FROM alarms_consequence WHERE alarm_id = a.id AND at <= %(at)s
        AND (ended_at IS NULL OR ended_at > %(at)s) ORDER BY at DESC LIMIT 1
) consequence ON true
LEFT JOIN LATERAL (
    SELECT count(*) AS count FROM alarms_consequence WHERE cause_id = a.id AND at <= %(at)s
        AND (ended_at IS NULL OR ended_at > %(at)s)
) follows ON true
LEFT JOIN LATERAL (
    SELECT count(*) AS count FROM (
        SELECT severity, lag(severity, 1, 0::smallint) OVER (ORDER BY at, id) AS was FROM alarms_alarmchange
        WHERE alarm_id = a.id AND at <= %(at)s AND at > %(at)s - interval '1 hour') lately WHERE severity > 0 AND was = 0
) raises ON true
LEFT JOIN {acknowledged}
LEFT JOIN {shelved}
WHERE {where}
ORDER BY {order}
LIMIT %(limit)s OFFSET %(offset)s
"""
WORST_FIRST = "c.severity DESC, raised_at DESC, a.id DESC"


@dataclass(slots=True)
class AlarmRow:
    """An alarm as it was at a time. ``resource``, ``resource_id`` and ``page`` are what it is about: kind, number, address of its page."""

    id: int
    type: str
    resource: str
    resource_id: int
    label: str
    site: str
    page: str
    device_id: int | None
    interface_id: int | None
    severity: int
    text: str
    changed_at: datetime
    raised_at: datetime
    rule: str | None
    plan: str | None
    """The call plan of its rule; None calls nobody."""
    notified: str | None
    message_state: str | None
    acknowledged_by: str | None
    acknowledged_at: datetime | None
    shelved_by: str | None
    shelved_until: datetime | None
    """None is until it is cleared, if somebody shelved it."""
    shelf: str | None
    """What keeps it quiet: shelve, close, or maintenance (which ``shelved_by`` names)."""
    cause_id: int | None
    cause_reason: str | None
    """The alarm that it follows from, and why it is put there."""
    consequences: int
    raised_lately: int
    """How often it was raised in the hour before."""


def _row(row: tuple[Any, ...]) -> AlarmRow:
    number, type_, kind, resource, label, site, device, interface, severity, facts, *rest = row
    where = page(kind, resource, device)
    return AlarmRow(
        number, type_, kind, resource, label, site, where, device, interface, severity, sentence(facts), *rest
    )


def _rows(where: str, order: str, *, limit: int, offset: int = 0, **values: Any) -> list[AlarmRow]:
    with connection.cursor() as cursor:
        cursor.execute(_select(where, order), {"limit": limit, "offset": offset, **values})
        return [_row(row) for row in cursor.fetchall()]


def _select(where: str, order: str, more: str = "") -> str:
    return SELECT.format(where=where, order=order, more=more, acknowledged=ACKNOWLEDGED, shelved=SHELVED)


def active(
    at: datetime,
    device: int | None = None,
    interface: int | None = None,
    *,
    path: int | None = None,
    is_shelved: bool = False,
    cause: int | None = None,
    limit: int = 500,
    offset: int = 0,
) -> tuple[list[AlarmRow], int]:
    """The alarms that were active at a time, worst first, then newest first; and how many there are in all.

    Parameters
    ----------
    is_shelved : those that are shelved, instead of those that are not
    cause : the consequences of an alarm, instead of what is no consequence
    """
    where = f"c.severity > 0 AND shelf.kind IS {'NOT' if is_shelved else ''} NULL"
    if cause is not None:
        where += " AND consequence.cause_id = %(cause)s"
    elif device is None and interface is None and path is None and not is_shelved:
        where += " AND consequence.cause_id IS NULL"
    if device is not None:
        where += " AND a.device_id = %(device)s"
    if interface is not None:
        where += " AND a.interface_id = %(interface)s"
    if path is not None:
        where += " AND a.resource_kind = 'path' AND a.resource_id = %(path)s"
    values = {
        "at": at,
        "device": device,
        "interface": interface,
        "path": path,
        "cause": cause,
        "limit": limit,
        "offset": offset,
    }
    with connection.cursor() as cursor:
        cursor.execute(_select(where, WORST_FIRST, ", count(*) OVER ()"), values)
        rows = cursor.fetchall()
    return [_row(row[:-1]) for row in rows], int(rows[0][-1]) if rows else 0


def history(start: datetime, end: datetime, limit: int, offset: int, words: str = "") -> list[AlarmRow]:
    """Alarms that were active at some time from start to end, as they were at the end, last changed first.

    Parameters
    ----------
    words : what the resource, its site, the type or the rule has to contain, each of them
    """
    where, values = "(c.severity > 0 OR c.at >= %(start)s)", {}
    for number, word in enumerate(words.split()[:10]):
        where += f" AND concat_ws(' ', a.label, a.site, a.type, rule.name, c.facts->>'text') ILIKE %(word{number})s"
        values[f"word{number}"] = "%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
    return _rows(where, "c.at DESC, a.id DESC", at=end, start=start, limit=limit, offset=offset, **values)


def by_id(alarm: int, at: datetime) -> AlarmRow | None:
    """One alarm as it was at a time."""
    alarms = _rows("a.id = %(alarm)s", "a.id", at=at, alarm=alarm, limit=1)
    return alarms[0] if alarms else None


@dataclass(frozen=True, slots=True)
class Episode:
    """A time for which an alarm was active, and what somebody said of it then."""

    alarm_id: int
    label: str
    severity: int
    """The worst that it had."""
    raised_at: datetime
    cleared_at: datetime
    by: str | None
    comment: str | None


SIMILAR = """
WITH mine AS (SELECT id, type, device_id, site, rule_id FROM alarms_alarm WHERE id = %(alarm)s),
alike AS (
    -- Those that are closest to it: itself, at its device, at its site, of its rule. All of a rule may be thousands.
    SELECT a.id, a.label, CASE WHEN a.id = mine.id THEN 0 WHEN a.device_id = mine.device_id THEN 1
        WHEN a.site = mine.site AND a.site <> '' THEN 2 ELSE 3 END AS distance
    FROM alarms_alarm a, mine WHERE a.type = mine.type
        AND (a.id = mine.id OR a.device_id = mine.device_id OR a.rule_id = mine.rule_id)
    ORDER BY distance, a.changed_at DESC LIMIT 50
), statuses AS (
    SELECT c.alarm_id, c.at, c.severity, sum((c.severity = 0)::int) OVER (PARTITION BY c.alarm_id ORDER BY c.at DESC, c.id DESC) AS ends
    FROM alarms_alarmchange c WHERE c.alarm_id IN (SELECT id FROM alike) AND c.at <= %(at)s AND c.at > %(at)s - interval '400 days'
), episodes AS (
    -- The changes up to a clearing have one number; those of what is still active have none.
    SELECT alarm_id, max(severity) AS severity, min(at) AS raised_at, max(at) AS cleared_at
    FROM statuses WHERE ends > 0 GROUP BY alarm_id, ends HAVING max(severity) > 0
), newest AS (
    SELECT e.*, alike.label, alike.distance FROM episodes e JOIN alike ON alike.id = e.alarm_id
    ORDER BY alike.distance, e.raised_at DESC LIMIT %(limit)s
)
SELECT newest.alarm_id, newest.label, newest.severity, newest.raised_at, newest.cleared_at, said.by, said.text FROM newest
LEFT JOIN LATERAL (
    SELECT act.by, act.text FROM alarms_alarmaction act WHERE act.alarm_id = newest.alarm_id AND act.kind <> 'maintenance'
        AND act.at BETWEEN newest.raised_at AND newest.cleared_at + interval '1 day' AND act.at <= %(at)s
    ORDER BY act.text <> '' DESC, act.at DESC LIMIT 1
) said ON true
ORDER BY newest.distance, newest.raised_at DESC
"""


def similar(alarm: int, at: datetime, limit: int = 8) -> list[Episode]:
    """When an alarm and others of its type had been active before a time: first its own times, then those that are close to it."""
    with connection.cursor() as cursor:
        cursor.execute(SIMILAR, {"alarm": alarm, "at": at, "limit": limit})
        return [Episode(*row) for row in cursor.fetchall()]


def notifications(alarm: int) -> list[Notification]:
    """Who was notified of an alarm's changes, newest first."""
    return list(
        Notification.objects.filter(change__alarm_id=alarm)
        .select_related("change", "message")
        .order_by("-change__at", "step", "round", "contact")[:200]
    )


def instructions(alarm: int) -> str:
    """What its rule tells whoever is notified of an alarm."""
    return Alarm.objects.filter(pk=alarm).values_list("rule__instructions", flat=True).first() or ""


def actions(alarm: int, at: datetime) -> list[AlarmAction]:
    """What was done about an alarm until a time, newest first."""
    return list(AlarmAction.objects.filter(alarm_id=alarm, at__lte=at).order_by("-at", "-id")[:200])


def changes(start: datetime, end: datetime, device: int | None = None) -> list[tuple[int, float, int]]:
    """Status changes from start to end, and the last one before, in order of alarm and time."""
    only = "AND a.device_id = %(device)s" if device is not None else ""
    sql = f"""
        SELECT c.alarm_id, extract(epoch FROM c.at)::float8, c.severity FROM alarms_alarmchange c
        JOIN alarms_alarm a ON a.id = c.alarm_id WHERE c.at >= %(start)s AND c.at < %(end)s {only}
        UNION ALL
        SELECT a.id, extract(epoch FROM c.at)::float8, c.severity FROM alarms_alarm a
        JOIN LATERAL (SELECT * FROM alarms_alarmchange WHERE alarm_id = a.id AND at < %(start)s ORDER BY at DESC LIMIT 1) c ON true
        WHERE c.severity > 0 {only}
        ORDER BY 1, 2"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"start": start, "end": end, "device": device})
        return [(int(alarm), float(at), int(severity)) for alarm, at, severity in cursor.fetchall()]


def timeline(start: datetime, end: datetime, buckets: int) -> list[Bucket]:
    """How many alarms were active in each of so many buckets."""
    return density(stands(changes(start, end), end.timestamp()), start.timestamp(), end.timestamp(), buckets)


def active_of(devices: Collection[int]) -> dict[str, list[tuple[int, int, int]]]:
    """The alarms of rules that are active at devices and what belongs to them: by kind, (rule, resource, severity)."""
    active: dict[str, list[tuple[int, int, int]]] = {}
    rows = Alarm.objects.filter(is_cleared=False, device_id__in=devices).exclude(rule=None)
    for kind, rule, resource, severity in rows.values_list("resource_kind", "rule_id", "resource_id", "severity"):
        active.setdefault(kind, []).append((rule, resource, severity))
    return active
