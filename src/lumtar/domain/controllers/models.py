"""Profiles of controllers, controllers, and what they told of."""

from django.db import models
from django.utils import timezone

from lumtar.core.controllers import ALARM, KINDS
from lumtar.core.reach import PRIVATE


class ControllerProfile(models.Model):
    """How one make of controller is asked: how one signs in, and where its lists are found."""

    name = models.CharField(max_length=120, unique=True)
    sign_in = models.JSONField(default=dict)
    """The fields of core's SignIn."""
    lists = models.JSONField(default=dict)
    """By kind of list, the fields of core's Listing."""

    def __str__(self) -> str:
        return self.name


class Controller(models.Model):
    """A controller that is asked, and how that went last."""

    name = models.CharField(max_length=120, unique=True)
    base = models.CharField(max_length=200)
    """Its address, such as https://192.0.2.7:8443."""
    profile = models.ForeignKey(ControllerProfile, on_delete=models.PROTECT, related_name="controllers")
    sealed = models.TextField(blank=True)
    """What one signs in with, encrypted."""
    authority = models.TextField(blank=True)
    """Certificates, as PEM, of whom its own is trusted by; empty is whomever this machine trusts."""
    credential = models.ForeignKey("inventory.Credential", on_delete=models.SET_NULL, null=True, related_name="+")
    """By which its members are polled."""
    allowed = models.TextField(default=PRIVATE, blank=True)
    """Addresses that members may have."""
    adds = models.BooleanField(default=False)
    """Whether members become devices by themselves."""
    port = models.PositiveIntegerField(default=161)
    every_s = models.PositiveIntegerField(default=60)
    enabled = models.BooleanField(default=True)
    asked_at = models.DateTimeField(null=True)
    answered_at = models.DateTimeField(null=True)
    """When it gave at least one of its lists."""
    problem = models.CharField(max_length=300, blank=True)
    complaints = models.JSONField(default=dict)
    """By kind of list, what was wrong with it or with rows of it."""

    def __str__(self) -> str:
        return self.name


class ControllerItem(models.Model):
    """A device, transport, tunnel, policy or alarm that a controller tells of."""

    controller = models.ForeignKey(Controller, on_delete=models.CASCADE, related_name="items")
    kind = models.CharField(max_length=10, choices=[(name, kind.words) for name, kind in KINDS.items()])
    key = models.CharField(max_length=300)
    """As the controller tells it apart from others."""
    name = models.CharField(max_length=300)
    facts = models.JSONField(default=dict)
    """Its fields, as they were told last."""
    up = models.BooleanField(null=True)
    device = models.ForeignKey("inventory.Device", on_delete=models.SET_NULL, null=True, related_name="told_by")
    """Of a member itself; of everything else the one that it is at."""
    peer = models.ForeignKey("inventory.Device", on_delete=models.SET_NULL, null=True, related_name="+")
    """Of a tunnel, at its other end."""
    interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="+")
    """That carries it."""
    about = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="alarms")
    """Of an alarm: the tunnel, transport or device that it is about."""
    severity = models.SmallIntegerField(default=0)
    """Of an alarm that stands."""
    words = models.CharField(max_length=300, blank=True)
    """Of a member that is no device: why."""
    since = models.DateTimeField(default=timezone.now)
    seen_at = models.DateTimeField(default=timezone.now)
    missed = models.PositiveSmallIntegerField(default=0)
    """Answers in a row in which it was missing."""
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """One a controller, kind and key."""

        constraints = [models.UniqueConstraint(fields=["controller", "kind", "key"], name="told_of_once")]
        indexes = [
            models.Index(fields=["about"], condition=models.Q(kind=ALARM.name, severity__gt=0), name="standing_alarms")
        ]

    def __str__(self) -> str:
        return self.name
