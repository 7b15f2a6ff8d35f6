"""Lumtar's own processes."""

from django.db import models


class Process(models.Model):
    """A running process and what it said of itself last."""

    name = models.CharField(max_length=40, unique=True)
    started_at = models.DateTimeField()
    beat_at = models.DateTimeField()
    detail = models.JSONField(default=dict)
