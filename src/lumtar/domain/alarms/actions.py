"""What people do about alarms: acknowledge, comment, shelve, and take either back."""

from collections.abc import Collection
from datetime import datetime, timedelta

from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import calls
from lumtar.domain.alarms.models import Alarm, AlarmAction
from lumtar.domain.operation.services import announce

Kind = AlarmAction.Kind
MOST = 1000
"""Alarms that one action can be about."""
LONGEST_SHELVED = timedelta(days=90)

ACKNOWLEDGED = """LATERAL (
    SELECT CASE WHEN kind = 'acknowledge' THEN by END AS by, at, severity FROM alarms_alarmaction
    WHERE alarm_id = a.id AND kind IN ('acknowledge', 'unacknowledge') AND at <= %(at)s ORDER BY at DESC, id DESC LIMIT 1
) ack ON ack.at > coalesce(r.at, a.raised_at) AND NOT EXISTS (
    SELECT 1 FROM alarms_alarmchange worse
    WHERE worse.alarm_id = a.id AND worse.at > ack.at AND worse.at <= %(at)s AND worse.severity > ack.severity)"""
"""Who acknowledged an alarm (a) since it was raised (r): it ends when the alarm is cleared, and when it gets worse."""
SHELVED = """LATERAL (
    SELECT kind, by, at, until FROM alarms_alarmaction
    WHERE alarm_id = a.id AND kind IN ('shelve', 'unshelve', 'maintenance', 'close', 'reopen') AND at <= %(at)s ORDER BY at DESC, id DESC LIMIT 1
) shelf ON shelf.kind NOT IN ('unshelve', 'reopen')
    AND CASE WHEN shelf.until IS NULL THEN shelf.at > coalesce(r.at, a.raised_at) ELSE shelf.until > %(at)s END"""
"""Who shelved or closed an alarm (a), or which maintenance keeps it quiet: until a time, whatever it does meanwhile, or until it is cleared."""


@transaction.atomic
def act(alarms: Collection[int], kind: Kind, by: str, text: str = "", until: datetime | None = None) -> int:
    """Do something about several alarms at once; how many it was done about.

    Parameters
    ----------
    until : of shelving; None is until they are cleared

    Raises
    ------
    Refusal
    """
    now, text = timezone.now(), text.strip()
    if not alarms or len(alarms) > MOST:
        raise Refusal(f"Choose between one and {MOST:,} alarms.", "alarms")
    if kind is Kind.MAINTENANCE:
        raise Refusal("A maintenance is planned with its time; shelve the alarm instead.", "kind")
    if kind is Kind.COMMENT and not text:
        raise Refusal("A comment needs a text.", "text")
    if until is not None and kind is not Kind.SHELVE:
        raise Refusal("Only shelving has an end.", "until")
    if until is not None and not now < until <= now + LONGEST_SHELVED:
        raise Refusal(f"Shelve for at most {LONGEST_SHELVED.days} days, until a time that is yet to come.", "until")
    known = list(Alarm.objects.select_for_update(of=("self",)).filter(pk__in=alarms).order_by("pk"))
    if len(known) < len(set(alarms)):
        raise Refusal("Some of these alarms are not there any more; load the list again.", "alarms")
    if kind in (Kind.ACKNOWLEDGE, Kind.SHELVE, Kind.CLOSE) and (
        cleared := [alarm for alarm in known if alarm.is_cleared]
    ):
        raise Refusal(f"The alarm of {cleared[0].label} is cleared already: there is nothing to {kind}.", "alarms")
    AlarmAction.objects.bulk_create(
        AlarmAction(alarm=alarm, at=now, by=by[:150], kind=kind, text=text[:1000], until=until, severity=alarm.severity)
        for alarm in known
    )
    _follow(kind, [alarm.pk for alarm in known], until, now)
    announce("alarms", [alarm.pk for alarm in known])
    return len(known)


def _follow(kind: Kind, alarms: Collection[int], until: datetime | None, now: datetime) -> None:
    """Whoever acknowledges or shelves looks after it, and nobody else is called; until that is taken back."""
    match kind:
        case Kind.ACKNOWLEDGE:
            calls.hold(alarms, None)
        case Kind.SHELVE | Kind.CLOSE:
            calls.hold(alarms, until)
        case Kind.UNACKNOWLEDGE:
            calls.resume(set(alarms) - set(quiet(alarms, now)))
        case Kind.UNSHELVE | Kind.REOPEN:
            calls.resume(set(alarms) - acknowledged(alarms, now))


def quiet(alarms: Collection[int], at: datetime) -> dict[int, datetime | None]:
    """Those of some alarms that are shelved at a time, and until when; None is until they are cleared."""
    if not alarms:
        return {}
    sql = f"""SELECT a.id, shelf.until FROM alarms_alarm a CROSS JOIN LATERAL (SELECT a.raised_at AS at) r JOIN {SHELVED}
        WHERE a.id = ANY(%(alarms)s)"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"alarms": list(alarms), "at": at})
        return dict(cursor.fetchall())


def acknowledged(alarms: Collection[int], at: datetime) -> set[int]:
    """Those of some alarms that are acknowledged at a time."""
    sql = f"""SELECT a.id FROM alarms_alarm a CROSS JOIN LATERAL (SELECT a.raised_at AS at) r JOIN {ACKNOWLEDGED}
        WHERE a.id = ANY(%(alarms)s) AND ack.by IS NOT NULL"""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"alarms": list(alarms), "at": at})
        return {int(row[0]) for row in cursor.fetchall()}
