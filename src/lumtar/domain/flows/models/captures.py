"""Captures of packets."""

from django.db import models
from django.utils import timezone


class Capture(models.Model):
    """Packets that a collector captured at one of its interfaces, or is to capture."""

    class State(models.TextChoices):
        """How far it is."""

        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"

    collector = models.CharField(max_length=120)
    interface = models.CharField(max_length=40)
    filter = models.CharField(max_length=1000, blank=True)
    longest = models.IntegerField()
    """Octets of a packet that are kept."""
    seconds = models.IntegerField()
    most_octets = models.IntegerField()
    why = models.CharField(max_length=300, blank=True)
    """What it is about: a talker, a port, an alarm."""
    by = models.CharField(max_length=150)
    asked_at = models.DateTimeField(default=timezone.now)
    begun_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    is_stopped = models.BooleanField(default=False)
    words = models.CharField(max_length=400, blank=True)
    """Why it ended, or failed."""
    packets = models.IntegerField(default=0)
    dropped = models.IntegerField(default=0)
    octets = models.IntegerField(default=0)
    data = models.BinaryField(null=True)

    def __str__(self) -> str:
        return f"capture at {self.collector} {self.interface}"
