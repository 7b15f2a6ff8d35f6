"""Rules and transitions of alarms, as tests need them."""

from datetime import UTC, datetime

from lumtar.core.alarms.facts import Ended, Said
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Rule
from lumtar.domain.alarms.services import Transition


def rule(measure="load", limit=90, clear=80, *, times=3, severity=4, pk=None, name="", **more):
    """A rule with one level, not saved; three in a row."""
    levels = [{"severity": severity, "limit": limit, "clear": clear}]
    return Rule(pk=pk, name=name or measure, measure=measure, levels=levels, **{"times": times, "of": times, **more})


def first_rules():
    """What a migration makes; a test with its own transactions finds the tables empty."""
    for made in (
        rule(name="Utilisation"),
        rule("unanswered", 0.5, 0.5, times=2, severity=5, name="Reachability"),
        Rule(name="Lumtar itself", measure="lumtar"),
    ):
        if not Rule.objects.filter(name=made.name).exists():
            made.save()


def transition(device, severity, text, *, at=None, interface=None, type="", rule=None, qualifier="", mail_to=()):
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
        mail_to=mail_to,
    )
