"""The audit trail: what was asked for, and what it changed."""

from django.db import models
from django.db.models.functions import Now


class AuditEntry(models.Model):
    """Something that somebody asked Lumtar to do, and whether it was done."""

    request = models.UUIDField(unique=True)
    at = models.DateTimeField(db_default=Now(), db_index=True)
    by = models.CharField(max_length=150, blank=True)
    via = models.CharField(max_length=100, blank=True)
    """session, the name of a token, or the command line"""
    address = models.GenericIPAddressField(null=True)
    what = models.CharField(max_length=200)
    path = models.CharField(max_length=300, blank=True)
    status = models.SmallIntegerField()


class AuditChange(models.Model):
    """A row that somebody changed: which columns, from what to what. Secrets are never in it. Written by triggers."""

    class Kind(models.TextChoices):
        """What became of the row."""

        MADE = "INSERT", "made"
        CHANGED = "UPDATE", "changed"
        DELETED = "DELETE", "deleted"

    request = models.UUIDField(null=True, db_index=True)
    at = models.DateTimeField(db_default=Now(), db_index=True)
    by = models.CharField(max_length=150)
    table = models.CharField(max_length=63)
    row = models.CharField(max_length=40)
    name = models.CharField(max_length=255, blank=True)
    kind = models.CharField(max_length=6, choices=Kind.choices)
    before = models.JSONField(default=dict)
    after = models.JSONField(default=dict)
