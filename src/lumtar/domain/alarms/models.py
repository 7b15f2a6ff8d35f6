"""Rules, alarms and notifications."""

from datetime import datetime

from django.db import models
from django.utils import timezone

from lumtar.core.alarms.facts import sentence
from lumtar.core.alarms.severity import Severity
from lumtar.core.measures import MEASURES, is_formula
from lumtar.core.rules import Direction, Reference
from lumtar.domain.calling.models import Address

SEVERITIES = [(int(severity), severity.word) for severity in Severity]
LUMTAR = "lumtar"
"""The measure of the rule, and the type of the alarms, about Lumtar itself, which watches its own services."""


def alarm_type(measure: str) -> str:
    """The alarm-type-id (RFC 8632) of a measure's alarms."""
    known = MEASURES.get(measure)
    # A formula may be as long as it likes; its alarms are told apart by their rule.
    return known.alarm or known.name if known else "formula" if is_formula(measure) else measure


class Rule(models.Model):
    """What is watched; see core/rules. ``levels`` are objects with severity, limit and clear, of a range also low and low_clear."""

    name = models.CharField(max_length=120, unique=True)
    measure = models.CharField(max_length=200)
    """A name of MEASURES, or a formula of them."""
    statistic = models.CharField(max_length=40, default="value")
    window_s = models.PositiveIntegerField(default=0)
    scope = models.CharField(max_length=1000, blank=True)
    """A condition over ports, devices or components; empty is all of them."""
    enabled = models.BooleanField(default=True)
    direction = models.CharField(max_length=8, choices=[(each, each) for each in Direction], default=Direction.ABOVE)
    reference = models.CharField(max_length=12, choices=[(each, each) for each in Reference], blank=True, default="")
    """What values are compared with first; see core/rules/baseline.py."""
    without = models.JSONField(default=list, blank=True)
    """Days (ISO dates, UTC) that were exceptional, from which nothing is learned."""
    hours = models.CharField(max_length=300, blank=True)
    """Hours of the week in which it holds; empty is always."""
    zone = models.CharField(max_length=60, default="UTC")
    raise_text = models.CharField(max_length=400, blank=True)
    clear_text = models.CharField(max_length=400, blank=True)
    """What an alarm says instead of the standard sentence; see calling/templates.py."""
    levels = models.JSONField(default=list)
    hold_s = models.PositiveIntegerField(default=0)
    times = models.PositiveIntegerField(default=1)
    of = models.PositiveIntegerField(default=1)
    revision = models.PositiveIntegerField(default=1)
    armed = models.PositiveIntegerField(default=1)
    instructions = models.TextField(max_length=2000, blank=True)
    """For whoever is called: it stands at the alarm and in the messages."""
    plan = models.ForeignKey("calling.CallPlan", on_delete=models.PROTECT, null=True, blank=True, related_name="rules")
    """Who is called; None is nobody."""

    def __str__(self) -> str:
        return self.name


class RuleException(models.Model):
    """A subject of a rule with levels of its own; without any it is exempt."""

    rule = models.ForeignKey(Rule, on_delete=models.CASCADE, related_name="exceptions")
    subject = models.BigIntegerField()
    """Number of the interface, device or component, as the rule's measure says."""
    levels = models.JSONField(default=list, blank=True)
    reason = models.CharField(max_length=300, blank=True)
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    class Meta:
        """One a rule and subject."""

        constraints = [models.UniqueConstraint(fields=["rule", "subject"], name="one_exception_a_rule_and_subject")]


class Evaluation(models.Model):
    """Until when rules about one kind of subject were evaluated that no poll evaluates."""

    subject = models.CharField(max_length=20, unique=True)
    until = models.DateTimeField()


class Baseline(models.Model):
    """The normal range of a subject's measure: 168 hours of the week, median and scale, single precision."""

    measure = models.CharField(max_length=200)
    reference = models.CharField(max_length=12)
    subject = models.BigIntegerField()
    ranges = models.BinaryField()
    weeks = models.SmallIntegerField()
    learned_at = models.DateTimeField()

    class Meta:
        """One a measure, reference and subject; collectors ask often when the last one was learned."""

        constraints = [
            models.UniqueConstraint(
                fields=["measure", "reference", "subject"], name="one_baseline_a_measure_and_subject"
            )
        ]
        indexes = [models.Index(fields=["learned_at"])]


class RuleMemory(models.Model):
    """What rules remember of their subjects (core/rules/memory.py), in pieces as it changed; the newest piece holds."""

    subject = models.CharField(max_length=16)
    """The kind of the subjects."""
    pairs = models.BinaryField()
    """Rows of five 64-bit numbers each, compressed."""

    class Meta:
        """Read in the order in which it was written."""

        indexes = [models.Index(fields=["subject", "id"])]


class Alarm(models.Model):
    """One alarm of a resource and type (RFC 8632 section 3.2): raised and cleared many times, with its history."""

    resource_kind = models.CharField(max_length=16)
    resource_id = models.BigIntegerField()
    label = models.CharField(max_length=300)
    """What the resource was called last; it stays when the resource is gone."""
    site = models.CharField(max_length=120, blank=True)
    device = models.ForeignKey("inventory.Device", on_delete=models.SET_NULL, null=True, related_name="alarms")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="alarms")
    rule = models.ForeignKey(Rule, on_delete=models.SET_NULL, null=True, related_name="alarms")
    type = models.CharField(max_length=40)
    qualifier = models.CharField(max_length=80, blank=True)
    is_cleared = models.BooleanField(default=False)
    severity = models.SmallIntegerField(choices=SEVERITIES)
    raised_at = models.DateTimeField()
    changed_at = models.DateTimeField()

    class Meta:
        """The resource, type and qualifier identify an alarm."""

        constraints = [
            models.UniqueConstraint(
                fields=["resource_kind", "resource_id", "type", "qualifier"], name="one_alarm_a_resource_and_type"
            )
        ]
        indexes = [models.Index(fields=["is_cleared", "-severity"])]


class AlarmChange(models.Model):
    """One status change of an alarm; a cleared one has the severity cleared."""

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="changes")
    at = models.DateTimeField()
    severity = models.SmallIntegerField(choices=SEVERITIES)
    facts = models.JSONField()
    """See core/alarms/facts.py."""

    class Meta:
        """Read by time, and by alarm and time."""

        indexes = [models.Index(fields=["-at"]), models.Index(fields=["alarm", "-at"])]

    @property
    def text(self) -> str:
        """What happened, in a sentence."""
        return sentence(self.facts)


class Maintenance(models.Model):
    """A time in which alarms of a part of the network are recorded and nobody is called; once, or again and again.

    ``span_start`` and ``span_end`` are the occurrence that goes on or comes next; None after the last one.
    """

    name = models.CharField(max_length=120, unique=True)
    reason = models.CharField(max_length=1000, blank=True)
    start = models.DateTimeField()
    end = models.DateTimeField()
    repeats = models.CharField(max_length=200, blank=True)
    """A recurrence rule (RFC 5545, section 3.3.10); empty is once."""
    zone = models.CharField(max_length=60, default="UTC")
    sites = models.ManyToManyField("inventory.Site", blank=True, related_name="+")
    groups = models.ManyToManyField("inventory.Group", blank=True, related_name="+")
    devices = models.ManyToManyField("inventory.Device", blank=True, related_name="+")
    interfaces = models.ManyToManyField("inventory.Interface", blank=True, related_name="+")
    span_start = models.DateTimeField(null=True)
    span_end = models.DateTimeField(null=True)
    is_begun = models.BooleanField(default=False)
    """Whether what was active when the span began is quiet already."""
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """Asked for what goes on."""

        verbose_name = "maintenance"
        indexes = [models.Index(fields=["span_start"])]

    def __str__(self) -> str:
        return self.name


class AlarmAction(models.Model):
    """What somebody did about an alarm (operator state change, RFC 8632 section 3.5); whether it is acknowledged or shelved
    follows from these rows.
    """

    class Kind(models.TextChoices):
        """What was done."""

        ACKNOWLEDGE = "acknowledge", "acknowledged"
        UNACKNOWLEDGE = "unacknowledge", "acknowledgement taken back"
        SHELVE = "shelve", "shelved"
        UNSHELVE = "unshelve", "taken off the shelf"
        MAINTENANCE = "maintenance", "in maintenance"
        CLOSE = "close", "closed"
        REOPEN = "reopen", "opened again"
        COMMENT = "comment", "comment"

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="actions")
    at = models.DateTimeField()
    by = models.CharField(max_length=150)
    kind = models.CharField(max_length=16, choices=Kind.choices)
    text = models.CharField(max_length=1000, blank=True)
    until = models.DateTimeField(null=True)
    """Of shelving and of maintenance; None is until it is cleared."""
    maintenance = models.ForeignKey("alarms.Maintenance", on_delete=models.SET_NULL, null=True, related_name="actions")
    severity = models.SmallIntegerField(choices=SEVERITIES)
    """That the alarm had: one that gets worse has to be acknowledged again."""

    class Meta:
        """Read by alarm and time."""

        indexes = [models.Index(fields=["alarm", "-at"])]


class Consequence(models.Model):
    """An alarm followed from another one for a time: nobody is called for it meanwhile."""

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="causes")
    cause = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="consequences")
    reason = models.CharField(max_length=300)
    at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    is_by_links = models.BooleanField(default=False)
    """It was found over the links between devices, and holds as long as these say so."""

    class Meta:
        """Read by alarm and by cause; an alarm has one cause at a time."""

        constraints = [
            models.UniqueConstraint(fields=["alarm"], condition=models.Q(ended_at=None), name="one_cause_at_a_time")
        ]
        indexes = [models.Index(fields=["alarm", "-at"]), models.Index(fields=["cause", "-at"])]


class Overruled(models.Model):
    """Somebody said that an alarm does not follow from another one: it is not put under that one again."""

    alarm = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="+")
    cause = models.ForeignKey(Alarm, on_delete=models.CASCADE, related_name="+")
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    class Meta:
        """Once a pair."""

        constraints = [models.UniqueConstraint(fields=["alarm", "cause"], name="overruled_once")]

    def __str__(self) -> str:
        return f"{self.alarm_id} does not follow from {self.cause_id}"


class LastGasp(models.Model):
    """When a device said last that it was losing its power."""

    device = models.OneToOneField(
        "inventory.Device", on_delete=models.CASCADE, primary_key=True, related_name="last_gasp"
    )
    at = models.DateTimeField()


class Call(models.Model):
    """How far the call plan of an active alarm has got: the call at ``position`` is due at ``next_at``."""

    alarm = models.OneToOneField(Alarm, on_delete=models.CASCADE, related_name="call")
    plan = models.ForeignKey("calling.CallPlan", on_delete=models.CASCADE, related_name="calls")
    change = models.ForeignKey(AlarmChange, on_delete=models.CASCADE, related_name="+")
    """The change that is told: that it was raised, or got worse."""
    position = models.PositiveIntegerField(default=0)
    next_at = models.DateTimeField(null=True)
    """None while it is acknowledged or shelved, and after the last call."""

    class Meta:
        """Asked for what is due."""

        indexes = [models.Index(fields=["next_at"])]


class Message(models.Model):
    """What was handed over to one address at once, about one or many alarms."""

    class State(models.TextChoices):
        """How far it got."""

        PENDING = "pending", "waiting to be sent"
        SENDING = "sending", "being sent"
        SENT = "sent", "sent"
        FAILED = "failed", "not sent"

    address = models.ForeignKey("calling.Address", on_delete=models.SET_NULL, null=True, related_name="messages")
    contact = models.CharField(max_length=80)
    channel = models.CharField(max_length=16)
    target = models.CharField(max_length=300)
    state = models.CharField(max_length=8, choices=State.choices, default=State.PENDING)
    created_at = models.DateTimeField()
    next_at = models.DateTimeField()
    """When it is tried (again); while it is being sent, when whoever sends it is taken for dead."""
    sent_at = models.DateTimeField(null=True)
    attempts = models.PositiveSmallIntegerField(default=0)
    answer = models.CharField(max_length=2000, blank=True)
    """What the receiver said, or why it was not sent."""

    class Meta:
        """Asked for what is to be sent, and for the last one to an address."""

        indexes = [
            models.Index(
                fields=["next_at"], condition=models.Q(state__in=["pending", "sending"]), name="messages_to_send"
            ),
            models.Index(fields=["address", "-created_at"]),
        ]


class Notification(models.Model):
    """One address is to be told of one status change by one step of a call plan: there can be no second."""

    change = models.ForeignKey(AlarmChange, on_delete=models.CASCADE, related_name="notifications")
    address = models.ForeignKey("calling.Address", on_delete=models.SET_NULL, null=True, related_name="notifications")
    contact = models.CharField(max_length=80)
    channel = models.CharField(max_length=16)
    target = models.CharField(max_length=300)
    step = models.PositiveSmallIntegerField(default=0)
    round = models.PositiveSmallIntegerField(default=0)
    due_at = models.DateTimeField()
    message = models.ForeignKey(Message, on_delete=models.SET_NULL, null=True, related_name="notifications")
    """What it was sent with; None while it waits."""

    class Meta:
        """Nobody is told of the same thing twice by the same step; asked for what waits."""

        constraints = [
            models.UniqueConstraint(
                fields=["change", "address", "step", "round"], name="one_notification_a_change_and_step"
            )
        ]
        indexes = [
            models.Index(fields=["address", "due_at"], condition=models.Q(message=None), name="notifications_that_wait")
        ]

    @classmethod
    def to(cls, address: Address, change: int, due_at: datetime, step: int = 0, turn: int = 0) -> "Notification":
        """One that is not stored yet, with what the address is called now."""
        return cls(
            change_id=change, address=address, contact=address.contact.name, channel=address.channel,
            target=address.shown, step=step, round=turn, due_at=due_at,
        )  # fmt: skip
