"""Rules and transitions of alarms, as tests need them."""

from datetime import UTC, datetime

from lumtar.core.alarms.facts import Ended, Said
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms import calls, sending
from lumtar.domain.alarms.models import Rule
from lumtar.domain.alarms.services import Transition
from lumtar.domain.calling import plans
from lumtar.domain.calling.channels import Undelivered
from lumtar.engine.calling import deliver


def rule(measure="load", limit=90, clear=80, *, times=3, severity=4, pk=None, name="", **more):
    """A rule with one level, not saved; three in a row."""
    levels = [{"severity": severity, "limit": limit, "clear": clear}]
    return Rule(pk=pk, name=name or measure, measure=measure, levels=levels, **{"times": times, "of": times, **more})


def plan_for(*mails):
    """A call plan that sends mails to these at once."""
    return plans.for_mail(mails, "test")


def send_due(at=None):
    """Send what is due, as the worker does in its turns; a failure is what it says."""
    now = at or datetime.now(UTC)
    calls.advance_due(now)
    sending.gather(now)
    for pk in sending.claim(now, 1000):
        try:
            sending.note_sent(pk, deliver(pk))
        except Undelivered as error:
            sending.note_failed(pk, error.words, again=error.again)


def first_rules():
    """What a migration makes; a test with its own transactions finds the tables empty."""
    for made in (
        rule(name="Utilisation"),
        rule("unanswered", 0.5, 0.5, times=2, severity=5, name="Reachability"),
        Rule(name="Lumtar itself", measure="lumtar"),
    ):
        if not Rule.objects.filter(name=made.name).exists():
            made.save()


def transition(device, severity, text, *, at=None, interface=None, type="", rule=None, qualifier="", plan=None):
    """An alarm of a device, or of one of its interfaces, raised or cleared."""
    severity = Severity(severity)
    return Transition(
        kind="interface" if interface else "device",
        resource=(interface or device).pk,
        type=type or ("utilisation" if interface else "unreachable"),
        qualifier=qualifier or (str(rule.pk) if rule else ""),
        severity=severity,
        facts=Said(text) if severity else Ended(text),
        at=at or datetime.now(UTC),
        device=device.pk,
        rule=rule.pk if rule else None,
        plan=plan.pk if plan else None,
    )
