"""Rules, alarms and notifications."""

from django.contrib.postgres.fields import ArrayField
from django.core.validators import validate_email
from django.db import models

from lumtar.core.alarms.severity import Severity

SEVERITIES = [(int(severity), severity.word) for severity in Severity]


class AlarmType(models.TextChoices):
    """alarm-type-id."""

    UTILISATION = "utilisation", "utilisation above its limit"
    UNREACHABLE = "unreachable", "device does not answer"
    LUMTAR = "lumtar", "Lumtar does not do its work"


class Rule(models.Model):
    """What is watched. Reachability has no limits, and ``readings`` counts polls without an answer."""

    name = models.CharField(max_length=120, unique=True)
    type = models.CharField(max_length=16, choices=AlarmType.choices, default=AlarmType.UTILISATION)
    enabled = models.BooleanField(default=True)
    limit_percent = models.FloatField(default=90)
    clear_percent = models.FloatField(default=80)
    readings = models.PositiveIntegerField(default=3)
    severity = models.SmallIntegerField(choices=SEVERITIES, default=int(Severity.MAJOR))
    mail_to = ArrayField(models.CharField(max_length=254, validators=[validate_email]), default=list, blank=True)

    def __str__(self) -> str:
        return self.name


class RuleMemory(models.Model):
    """Readings in a row above the limit, where there are any: the count survives a restart."""

    rule = models.ForeignKey(Rule, on_delete=models.CASCADE)
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE)
    over = models.PositiveSmallIntegerField()

    class Meta:
        """One count a rule and interface."""

        constraints = [models.UniqueConstraint(fields=["rule", "interface"], name="one_memory_a_rule_and_interface")]


class Alarm(models.Model):
    """One alarm of a resource and type (RFC 8632 section 3.2): raised and cleared many times, with its history."""

    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, null=True, related_name="alarms")
    """None if it is Lumtar itself; the qualifier then tells what of it."""
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="alarms")
    rule = models.ForeignKey(Rule, on_delete=models.SET_NULL, null=True, related_name="alarms")
    type = models.CharField(max_length=16, choices=AlarmType.choices)
    qualifier = models.CharField(max_length=80, blank=True)
    is_cleared = models.BooleanField(default=False)
    severity = models.SmallIntegerField(choices=SEVERITIES)
    text = models.CharField(max_length=500)
    raised_at = models.DateTimeField()
    changed_at = models.DateTimeField()

    class Meta:
        """The resource, type and qualifier identify an alarm."""

        constraints = [
            models.UniqueConstraint(
                fields=["device", "interface", "type", "qualifier"],
                nulls_distinct=False,
                name="one_alarm_a_resource_and_type",
            )
        ]
        indexes = [models.Index(fields=["is_cleared", "-severity"])]


class AlarmChange(models.Model):
    """One status change of an alarm; a cleared one has the severity cleared."""

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="changes")
    at = models.DateTimeField()
    severity = models.SmallIntegerField(choices=SEVERITIES)
    text = models.CharField(max_length=500)

    class Meta:
        """Read by time, and by alarm and time."""

        indexes = [models.Index(fields=["-at"]), models.Index(fields=["alarm", "-at"])]


class Notification(models.Model):
    """One mail about one status change to one address: there can be no second."""

    class State(models.TextChoices):
        """How far it got."""

        PENDING = "pending", "waiting to be sent"
        SENDING = "sending", "being sent"
        SENT = "sent", "sent"
        FAILED = "failed", "not sent"

    change = models.ForeignKey(AlarmChange, on_delete=models.CASCADE, related_name="notifications")
    address = models.CharField(max_length=254)
    state = models.CharField(max_length=8, choices=State.choices, default=State.PENDING)
    at = models.DateTimeField(auto_now_add=True)
    sent_at = models.DateTimeField(null=True)
    detail = models.CharField(max_length=300, blank=True)

    class Meta:
        """No mail twice."""

        constraints = [models.UniqueConstraint(fields=["change", "address"], name="one_mail_a_change_and_address")]
