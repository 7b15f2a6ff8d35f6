"""Paths, and what their probes came to by minute and by hour."""

from django.db import models
from django.utils import timezone


class Path(models.Model):
    """A way from a prober to a reflector that is measured all the time."""

    name = models.CharField(max_length=120, unique=True)
    prober = models.CharField(max_length=120, default="prober")
    """Which prober sends the test packets."""
    from_site = models.ForeignKey("inventory.Site", on_delete=models.SET_NULL, null=True, related_name="+")
    to_site = models.ForeignKey("inventory.Site", on_delete=models.SET_NULL, null=True, related_name="+")
    address = models.GenericIPAddressField()
    port = models.IntegerField(default=862)
    dscp = models.SmallIntegerField(default=0)
    octets = models.IntegerField(default=100)
    """Of a test packet, without the headers of UDP and IP."""
    every_ms = models.IntegerField(default=1000)
    enabled = models.BooleanField(default=True)
    since = models.DateTimeField(default=timezone.now)
    problem = models.CharField(max_length=200, blank=True)
    """Why its probes cannot be sent just now."""

    def __str__(self) -> str:
        return self.name


class Interval(models.Model):
    """What the probes of a path came to; times are microseconds, NaN is not known."""

    pk = models.CompositePrimaryKey("path_id", "at")
    at = models.DateTimeField()
    """Its begin."""
    path = models.ForeignKey(Path, on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+")
    sent = models.IntegerField()
    lost = models.IntegerField()
    duplicates = models.IntegerField()
    reordered = models.IntegerField()
    bursts = models.IntegerField()
    longest_burst = models.IntegerField()
    least = models.FloatField()
    p5 = models.FloatField()
    p25 = models.FloatField()
    p50 = models.FloatField()
    p75 = models.FloatField()
    p95 = models.FloatField()
    longest = models.FloatField()
    mean = models.FloatField()
    variation = models.FloatField()
    variation_95 = models.FloatField()
    jitter = models.FloatField()
    out = models.FloatField()
    back = models.FloatField()

    class Meta:
        """Both levels have the same columns."""

        abstract = True


class Minute(Interval):
    """A minute."""

    class Meta:
        """Partitioned by days; made by a migration."""

        db_table = "paths_minute"


class Hour(Interval):
    """An hour, from its minutes."""

    class Meta:
        """Partitioned by months of thirty days; made by a migration."""

        db_table = "paths_hour"
