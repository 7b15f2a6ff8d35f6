"""Sweeps, their runs, what they found, and admission rules."""

from django.db import models
from django.utils import timezone

from lumtar.core.admission import Outcome
from lumtar.domain.inventory.models import Credential, Device, Profile, Site

OUTCOMES = [(outcome, outcome) for outcome in Outcome]


class Sweep(models.Model):
    """Address ranges to look through, and how. Without credentials those of the site are tried, in their order."""

    name = models.CharField(max_length=80, unique=True)
    ranges = models.TextField()
    without = models.TextField(blank=True)
    site = models.ForeignKey(Site, on_delete=models.SET_NULL, null=True, related_name="sweeps")
    icmp = models.BooleanField(default=True)
    tcp_ports = models.JSONField(default=list)
    snmp = models.BooleanField(default=True)
    port = models.PositiveIntegerField(default=161)
    credentials = models.ManyToManyField(Credential, blank=True, related_name="sweeps")
    every_s = models.PositiveIntegerField(default=0)
    """0 is only by hand."""
    per_second = models.FloatField(default=200.0)
    timeout_s = models.FloatField(default=1.0)
    tries = models.PositiveSmallIntegerField(default=2)
    retire_after_days = models.PositiveIntegerField(null=True)
    next_at = models.DateTimeField(null=True)
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """By name, as people look for them."""

        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Run(models.Model):
    """One run of a sweep. ``beat_at`` is when it last said that it goes on."""

    class State(models.TextChoices):
        """How far it is."""

        WAITING = "waiting", "waiting"
        RUNNING = "running", "running"
        DONE = "done", "done"
        STOPPED = "stopped", "stopped"
        FAILED = "failed", "failed"

    sweep = models.ForeignKey(Sweep, on_delete=models.CASCADE, related_name="runs")
    state = models.CharField(max_length=8, choices=State.choices, default=State.WAITING)
    asked_by = models.CharField(max_length=150, blank=True)
    asked_at = models.DateTimeField(default=timezone.now)
    began_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    beat_at = models.DateTimeField(null=True)
    total = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    answered = models.PositiveIntegerField(default=0)
    packets = models.PositiveIntegerField(default=0)
    is_to_stop = models.BooleanField(default=False)
    counts = models.JSONField(default=dict)
    words = models.CharField(max_length=400, blank=True)

    class Meta:
        """Newest first; a sweep runs once at a time."""

        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["sweep"],
                condition=models.Q(state__in=["waiting", "running"]),
                name="one_run_of_a_sweep_at_a_time",
            )
        ]


class Finding(models.Model):
    """A box that a sweep found, under one or more addresses; ``reasons`` says why each address is this box."""

    class State(models.TextChoices):
        """How it stands after the last run."""

        NEW = "new", "new"
        KNOWN = "known", "known"
        CHANGED = "changed", "changed"
        LOST = "lost", "lost"

    sweep = models.ForeignKey(Sweep, on_delete=models.CASCADE, related_name="findings")
    state = models.CharField(max_length=8, choices=State.choices, default=State.NEW)
    address = models.CharField(max_length=64)
    reasons = models.JSONField(default=dict)
    answered = models.JSONField(default=list)
    tcp_port = models.PositiveIntegerField(null=True)
    credential = models.ForeignKey(Credential, on_delete=models.SET_NULL, null=True, related_name="+")
    device = models.ForeignKey(Device, on_delete=models.SET_NULL, null=True, related_name="findings")
    sys_name = models.CharField(max_length=255, blank=True)
    sys_descr = models.CharField(max_length=255, blank=True)
    sys_object_id = models.CharField(max_length=255, blank=True)
    location = models.CharField(max_length=255, blank=True)
    contact = models.CharField(max_length=255, blank=True)
    maker = models.CharField(max_length=255, blank=True)
    model = models.CharField(max_length=255, blank=True)
    serial = models.CharField(max_length=255, blank=True)
    engine_id = models.CharField(max_length=64, blank=True)
    base_mac = models.CharField(max_length=17, blank=True)
    ports = models.PositiveIntegerField(default=0)
    first_seen = models.DateTimeField(default=timezone.now)
    last_seen = models.DateTimeField(default=timezone.now)
    lost_since = models.DateTimeField(null=True)
    decision = models.CharField(max_length=6, choices=OUTCOMES, blank=True)
    decided_by = models.CharField(max_length=150, blank=True)
    """A rule or a person; what a person decided is not decided anew."""
    is_own = models.BooleanField(default=False)
    words = models.CharField(max_length=400, blank=True)

    class Meta:
        """By address within a sweep."""

        ordering = ["pk"]
        constraints = [models.UniqueConstraint(fields=["sweep", "address"], name="one_finding_an_address")]


class AdmissionRule(models.Model):
    """What is done with something new that meets a condition, and what an added device is given."""

    name = models.CharField(max_length=80, unique=True)
    condition = models.TextField(blank=True)
    outcome = models.CharField(max_length=6, choices=OUTCOMES, default=Outcome.HOLD)
    site = models.ForeignKey(Site, on_delete=models.SET_NULL, null=True, related_name="+")
    groups = models.JSONField(default=list)
    tags = models.JSONField(default=dict)
    profile = models.ForeignKey(Profile, on_delete=models.SET_NULL, null=True, related_name="+")
    credential = models.ForeignKey(Credential, on_delete=models.SET_NULL, null=True, related_name="+")
    interval_s = models.PositiveIntegerField(null=True)
    place = models.PositiveIntegerField(default=0)
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """In the order of deciding."""

        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return self.name
