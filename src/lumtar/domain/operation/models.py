"""Lumtar's own processes, what they share, and what they did last."""

from django.db import models
from django.db.models.functions import Now


class Process(models.Model):
    """A service's instance and what it said of itself last."""

    name = models.CharField(max_length=80, unique=True)
    kind = models.CharField(max_length=40, default="")
    host = models.CharField(max_length=253, default="")
    pid = models.IntegerField(default=0)
    started_at = models.DateTimeField()
    beat_at = models.DateTimeField()
    stopped_at = models.DateTimeField(null=True)
    """When it ended as it was told to; None while it runs, or if it just vanished."""
    trouble = models.CharField(max_length=400, default="")
    """What it cannot do just now, in its own words."""
    detail = models.JSONField(default=dict)


class Seat(models.Model):
    """A running collector that takes part in sharing the devices out."""

    run = models.UUIDField(primary_key=True)
    name = models.CharField(max_length=80)
    until = models.DateTimeField()


class Share(models.Model):
    """A share of the devices, and which collector polls it until when.

    ``fence`` grows whenever it changes hands: what an earlier holder still wants to store carries an older number and is
    refused. It stands in a unique index so that changing it waits for whoever stores under it (see leases.py).
    """

    number = models.SmallIntegerField(primary_key=True)
    fence = models.BigIntegerField(default=0)
    holder = models.UUIDField(null=True)
    holder_name = models.CharField(max_length=80, default="")
    until = models.DateTimeField(null=True)

    class Meta:
        """Of a number there is one row, so the index only serves to make the fence part of a key."""

        constraints = [models.UniqueConstraint(fields=["number", "fence"], name="one_fence_a_share")]


class DueSum(models.Model):
    """A period that is due to be summed up (due.py)."""

    what = models.CharField(max_length=40)
    at = models.DateTimeField()
    """Its begin."""

    class Meta:
        """It is due once."""

        constraints = [models.UniqueConstraint(fields=["what", "at"], name="due_once")]


class JobRun(models.Model):
    """How a periodic job went last."""

    task = models.CharField(max_length=200, primary_key=True)
    every_s = models.IntegerField()
    succeeded_at = models.DateTimeField(null=True)
    failed_at = models.DateTimeField(null=True)
    took_ms = models.FloatField(null=True)
    words = models.CharField(max_length=400, default="")


class Errand(models.Model):
    """Something that a collector is asked to do now. What is asked is encrypted: it may hold a secret that was typed in."""

    id = models.UUIDField(primary_key=True)
    kind = models.CharField(max_length=20)
    sealed = models.TextField()
    asked_at = models.DateTimeField(db_default=Now())
    taken_by = models.CharField(max_length=80, default="")
    taken_at = models.DateTimeField(null=True)
    done_at = models.DateTimeField(null=True)
    stopped_at = models.DateTimeField(null=True)


class ErrandLine(models.Model):
    """A line of an errand's answer."""

    errand = models.ForeignKey(Errand, on_delete=models.CASCADE, related_name="lines")
    number = models.IntegerField()
    line = models.JSONField()
