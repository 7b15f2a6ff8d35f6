"""What is wrong with Lumtar itself is an alarm like any other: it is raised, it is told, and it clears."""

from datetime import datetime

from django.db import connection, transaction
from django.utils import timezone

from lumtar.core.alarms.facts import Ended, Facts, Said
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms import causes, sending
from lumtar.domain.alarms import services as alarms
from lumtar.domain.alarms.models import LUMTAR, Alarm, Rule
from lumtar.domain.alarms.over_links import UNREACHABLE
from lumtar.domain.alarms.services import Transition
from lumtar.domain.operation import resources
from lumtar.domain.operation.leases import share_of
from lumtar.domain.operation.models import Share
from lumtar.domain.operation.services import announce
from lumtar.domain.selfwatch.health import SIGHT, Trouble, health

LOCK = 7_402_318
"""One of the services looks at a time."""


@transaction.atomic
def look() -> list[int]:
    """Raise an alarm for whatever is not being done, and clear those that are over. Returns the alarms that changed."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_xact_lock(%s)", [LOCK])
        if not cursor.fetchone()[0]:
            return []
    rule = Rule.objects.filter(measure=LUMTAR).order_by("pk").first()
    wanted = {}
    if rule is None or rule.enabled:
        wanted = {(*_about(trouble), trouble.subject[:80]): trouble for trouble in health().troubles}
    number, plan = (rule.pk, rule.plan_id) if rule else (None, None)
    now = timezone.now()
    active = Alarm.objects.filter(type=LUMTAR, is_cleared=False).values_list(
        "resource_kind", "resource_id", "qualifier"
    )

    def transition(key: tuple[str, int, str], severity: Severity, facts: Facts) -> Transition:
        kind, resource, subject = key
        return Transition(kind, resource, LUMTAR, subject, severity, facts, now, rule=number, plan=plan)

    transitions = [transition(key, each.severity, Said(each.words[:500])) for key, each in wanted.items()]
    transitions += [
        transition(key, Severity.CLEARED, Ended("This is well again")) for key in active if key not in wanted
    ]
    changed = alarms.apply(transitions) + sending.clear_unused(now)
    changed += _explain_by_blindness(now)
    if changed:
        announce("alarms", changed)
    return changed


def _explain_by_blindness(now: datetime) -> list[int]:
    """All devices of a collector that sees none of them do not answer for one reason."""
    explained = []
    for alarm in Alarm.objects.filter(type=LUMTAR, is_cleared=False, qualifier__startswith=SIGHT):
        name = alarm.qualifier.removeprefix(SIGHT)
        shares = set(Share.objects.filter(holder_name=name).exclude(holder=None).values_list("number", flat=True))
        silent = Alarm.objects.filter(type=UNREACHABLE, is_cleared=False).exclude(device=None)
        mine = [each.pk for each in silent if share_of(each.device_id or 0) in shares]
        explained += causes.explain(mine, causes.Cause(alarm.pk, f"The collector {name} sees none of its devices"), now)
    return explained


def _about(trouble: Trouble) -> tuple[str, int]:
    """The resource that an alarm about it is raised on."""
    return (resources.LUMTAR, 0) if trouble.collector is None else (resources.COLLECTOR, trouble.collector)
