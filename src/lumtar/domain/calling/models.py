"""Contacts with their addresses, teams, call plans, and where messages may be sent."""

from django.db import models
from django.utils import timezone

from lumtar.core.alarms.severity import Severity
from lumtar.core.reach import PRIVATE

SEVERITIES = [(int(severity), severity.word) for severity in Severity]


class Edited(models.Model):
    """Something that people edit: two who do at once are told."""

    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """No table of its own."""

        abstract = True


class Contact(Edited):
    """Somebody, or something, that can be sent messages."""

    name = models.CharField(max_length=80, unique=True)
    zone = models.CharField(max_length=60, default="UTC")
    quiet = models.CharField(max_length=300, blank=True)
    """Hours in which only what is at least ``quiet_from`` severe is sent; the rest waits until they end."""
    quiet_from = models.SmallIntegerField(choices=SEVERITIES, default=Severity.CRITICAL)

    class Meta:
        """By name, as people look for them."""

        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class _WithoutSecret(models.Manager["Address"]):
    def get_queryset(self) -> models.QuerySet["Address"]:
        return super().get_queryset().defer("sealed")


class Address(models.Model):
    """One way to reach a contact; ``shown`` says where it leads without its secrets.

    What holds the secrets is not read along with the rest: few need it, and people who are limited to a part may not.
    """

    contact = models.ForeignKey(Contact, on_delete=models.CASCADE, related_name="addresses")
    place = models.PositiveIntegerField(default=0)
    channel = models.CharField(max_length=16)
    shown = models.CharField(max_length=300)
    sealed = models.TextField()
    enabled = models.BooleanField(default=True)

    objects = _WithoutSecret()

    class Meta:
        """The first one is asked for first."""

        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return f"{self.channel} {self.shown}"


class Team(Edited):
    """Contacts who are called together, or in turns. Without turns all members are called."""

    name = models.CharField(max_length=80, unique=True)
    zone = models.CharField(max_length=60, default="UTC")
    hours = models.CharField(max_length=300, blank=True)
    turn_days = models.PositiveSmallIntegerField(default=0)
    turn_start = models.DateTimeField(null=True)
    members = models.ManyToManyField(Contact, through="Member", related_name="teams")

    class Meta:
        """By name, as people look for them."""

        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Member(models.Model):
    """A contact in a team, in the order of the turns."""

    team = models.ForeignKey(Team, on_delete=models.CASCADE, related_name="places")
    contact = models.ForeignKey(Contact, on_delete=models.CASCADE, related_name="places")
    place = models.PositiveIntegerField()

    class Meta:
        """In the order of the turns; nobody twice."""

        ordering = ["place"]
        constraints = [models.UniqueConstraint(fields=["team", "contact"], name="a_member_once_a_team")]


class Substitution(models.Model):
    """Somebody stands in for a member of a team for a time."""

    team = models.ForeignKey(Team, on_delete=models.CASCADE, related_name="substitutions")
    contact = models.ForeignKey(Contact, on_delete=models.CASCADE, related_name="+")
    instead_of = models.ForeignKey(Contact, on_delete=models.CASCADE, related_name="+")
    start = models.DateTimeField()
    end = models.DateTimeField()

    class Meta:
        """A later one is looked at first."""

        ordering = ["start", "pk"]


class CallPlan(Edited):
    """Whom alarms are told to, in steps. An empty text is the standard one."""

    name = models.CharField(max_length=80, unique=True)
    on_worse = models.BooleanField(default=True)
    on_clear = models.BooleanField(default=True)
    raise_subject = models.CharField(max_length=300, blank=True)
    raise_text = models.TextField(max_length=4000, blank=True)
    clear_subject = models.CharField(max_length=300, blank=True)
    clear_text = models.TextField(max_length=4000, blank=True)

    class Meta:
        """By name, as people look for them."""

        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class PlanStep(models.Model):
    """A step of a call plan; see core/calling/steps.py. Without channels every address of a contact is used."""

    plan = models.ForeignKey(CallPlan, on_delete=models.CASCADE, related_name="steps")
    place = models.PositiveIntegerField()
    after_s = models.PositiveIntegerField(default=0)
    times = models.PositiveSmallIntegerField(default=1)
    repeat_s = models.PositiveIntegerField(default=0)
    from_severity = models.SmallIntegerField(choices=SEVERITIES, default=Severity.INDETERMINATE)
    channels = models.JSONField(default=list, blank=True)
    contacts = models.ManyToManyField(Contact, blank=True, related_name="steps")
    teams = models.ManyToManyField(Team, blank=True, related_name="steps")

    class Meta:
        """In their order."""

        ordering = ["place", "pk"]


class Destinations(Edited):
    """Where messages other than mail may be sent: one row. Mail goes to the mail server of the installation alone."""

    ranges = models.TextField(default=PRIVATE, blank=True)
    hosts = models.TextField(blank=True)
    """Names beside the ranges, separated by commas; ``*.example.net`` stands for all names beneath one."""

    class Meta:
        """As messages name it."""

        verbose_name = "list of destinations"

    def __str__(self) -> str:
        return "where messages may be sent"
