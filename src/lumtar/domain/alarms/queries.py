"""What can be asked about alarms, now and at any past time."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import connection

from lumtar.core.alarms.density import Bucket, density, stands
from lumtar.domain.alarms.models import Notification

SELECT = """
SELECT a.id, a.type, a.device_id, coalesce(d.name, 'Lumtar itself') AS device, s.name AS site, a.interface_id, i.label AS interface, c.severity, c.text,
    c.at AS changed_at, coalesce(r.at, a.raised_at) AS raised_at, rule.name AS rule, coalesce(cardinality(rule.mail_to), 0) AS told_count,
    n.told, n.state AS mail_state
FROM alarms_alarm a
LEFT JOIN inventory_device d ON d.id = a.device_id
LEFT JOIN inventory_site s ON s.id = d.site_id
LEFT JOIN inventory_interface i ON i.id = a.interface_id
LEFT JOIN alarms_rule rule ON rule.id = a.rule_id
JOIN LATERAL (SELECT * FROM alarms_alarmchange WHERE alarm_id = a.id AND at <= %(at)s ORDER BY at DESC, id DESC LIMIT 1) c ON true
LEFT JOIN LATERAL (
    SELECT max(at) AS at FROM alarms_alarmchange WHERE alarm_id = a.id AND at <= c.at AND severity > 0
        AND at > coalesce((SELECT max(at) FROM alarms_alarmchange WHERE alarm_id = a.id AND severity = 0 AND at < c.at), '-infinity')
) r ON true
LEFT JOIN LATERAL (
    SELECT string_agg(address, ', ' ORDER BY address) AS told, min(state) AS state FROM alarms_notification WHERE change_id = c.id
) n ON true
WHERE {where}
ORDER BY {order}
LIMIT %(limit)s OFFSET %(offset)s
"""


@dataclass(slots=True)
class AlarmRow:
    """An alarm as it stood at a time."""

    id: int
    type: str
    device_id: int | None
    device: str
    site: str | None
    interface_id: int | None
    interface: str | None
    severity: int
    text: str
    changed_at: datetime
    raised_at: datetime
    rule: str | None
    told_count: int
    told: str | None
    mail_state: str | None


def _rows(where: str, order: str, **values: Any) -> list[AlarmRow]:
    with connection.cursor() as cursor:
        cursor.execute(SELECT.format(where=where, order=order), {"limit": 500, "offset": 0, **values})
        return [AlarmRow(*row) for row in cursor.fetchall()]


def standing(at: datetime, device: int | None = None, interface: int | None = None) -> list[AlarmRow]:
    """The alarms that stood at a time, worst first, then newest first."""
    where = "c.severity > 0"
    if device is not None:
        where += " AND a.device_id = %(device)s"
    if interface is not None:
        where += " AND a.interface_id = %(interface)s"
    return _rows(where, "c.severity DESC, raised_at DESC", at=at, device=device, interface=interface)


def history(start: datetime, end: datetime, limit: int, offset: int) -> list[AlarmRow]:
    """Alarms that stood at some time from start to end, as they were at the end, last changed first."""
    where = "(c.severity > 0 OR c.at >= %(start)s)"
    return _rows(where, "c.at DESC, a.id DESC", at=end, start=start, limit=limit, offset=offset)


def by_id(alarm: int, at: datetime) -> AlarmRow | None:
    """One alarm as it stood at a time."""
    found = _rows("a.id = %(alarm)s", "a.id", at=at, alarm=alarm)
    return found[0] if found else None


def notifications(alarm: int) -> list[Notification]:
    """Who was told of an alarm's changes, newest first."""
    return list(
        Notification.objects.filter(change__alarm_id=alarm)
        .select_related("change")
        .order_by("-change__at", "address")[:200]
    )


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
    """How many alarms stood in each of so many buckets."""
    return density(stands(changes(start, end), end.timestamp()), start.timestamp(), end.timestamp(), buckets)
