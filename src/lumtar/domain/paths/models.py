"""Paths, and what their probes came to by minute and by hour."""

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.utils import timezone


class ServiceClass(models.Model):
    """What is promised of some paths: targets, and for which share of which hours they hold."""

    name = models.CharField(max_length=120, unique=True)
    limits = models.JSONField(default=dict)
    """By measure, what is not to be exceeded (core/paths/promises.py)."""
    share = models.FloatField(default=99.0)
    """Per cent of the time."""
    hours = models.CharField(max_length=300, blank=True)
    """Such as Mon-Fri 08:00-18:00; empty is always."""
    zone = models.CharField(max_length=60, default="UTC")

    def __str__(self) -> str:
        return self.name


class Transport(models.Model):
    """A line of a provider that carries paths."""

    name = models.CharField(max_length=120, unique=True)
    provider = models.CharField(max_length=120)
    site = models.ForeignKey("inventory.Site", on_delete=models.SET_NULL, null=True, related_name="+")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="+")
    """The port that it is connected to."""
    down_bps = models.BigIntegerField(null=True)
    up_bps = models.BigIntegerField(null=True)
    """As contracted."""
    price = models.DecimalField(max_digits=12, decimal_places=2, null=True)
    """A month."""
    currency = models.CharField(max_length=3, blank=True)

    def __str__(self) -> str:
        return self.name


class Path(models.Model):
    """A way from a prober to a reflector or a service that is measured all the time."""

    name = models.CharField(max_length=120, unique=True)
    kind = models.CharField(max_length=10, default="stamp")
    """How it is measured (core/paths/kinds.py)."""
    prober = models.CharField(max_length=120, default="prober")
    """Which prober sends the test packets."""
    device = models.ForeignKey("inventory.Device", on_delete=models.SET_NULL, null=True, related_name="+")
    """That measures by itself, if one does."""
    told_number = models.BigIntegerField(default=0)
    """Of the last probe in that device's memory that is stored."""
    from_site = models.ForeignKey("inventory.Site", on_delete=models.SET_NULL, null=True, related_name="+")
    to_site = models.ForeignKey("inventory.Site", on_delete=models.SET_NULL, null=True, related_name="+")
    address = models.GenericIPAddressField(null=True)
    """Without one it comes of what is asked for."""
    asked = models.CharField(max_length=300, blank=True)
    """What is asked for: a name and a type of record, an address of the web."""
    expected = models.CharField(max_length=200, blank=True)
    """What has to be in the answer."""
    verifies = models.BooleanField(default=True)
    """Whether a certificate has to be one that the prober's machine trusts."""
    port = models.IntegerField(default=862)
    service_class = models.ForeignKey(ServiceClass, on_delete=models.SET_NULL, null=True, related_name="paths")
    transport = models.ForeignKey(Transport, on_delete=models.SET_NULL, null=True, related_name="paths")
    """The line that its probes take."""
    groups: "ArrayField[list[str], list[str]]" = ArrayField(models.CharField(max_length=80), default=list)
    """Names under which it is put together with others: in lists, reports and conditions."""
    dscp = models.SmallIntegerField(default=0)
    octets = models.IntegerField(default=100)
    """Of a test packet, without the headers of UDP and IP."""
    every_ms = models.IntegerField(default=1000)
    traces = models.BooleanField(default=False)
    """Whether its route is looked at as well."""
    enabled = models.BooleanField(default=True)
    since = models.DateTimeField(default=timezone.now)
    problem = models.CharField(max_length=200, blank=True)
    """Why its probes cannot be sent just now, have no answer, or not the right one."""

    def __str__(self) -> str:
        return self.name


class TracedRoute(models.Model):
    """The route of a path from a time on, until another one was seen."""

    path = models.ForeignKey(Path, on_delete=models.CASCADE, related_name="routes")
    hops = models.JSONField(default=list)
    """Addresses, the nearest first; an empty text is a hop that never answered."""
    since = models.DateTimeField()
    seen_at = models.DateTimeField()
    """When it was seen last."""

    def __str__(self) -> str:
        return f"route of {self.path}"


class Move(models.Model):
    """Traffic of a site took another transport from a time on.

    Without ``from_transport`` none was left: it was looked at for the first time, or a policy began or ceased to rule it.
    """

    site = models.ForeignKey("inventory.Site", on_delete=models.CASCADE, related_name="+")
    service_class = models.ForeignKey(ServiceClass, on_delete=models.CASCADE, null=True, related_name="+")
    """Only this class, which has or had a policy of its own."""
    is_ruled = models.BooleanField(default=False)
    """Whether a policy of a controller rules it since; else the routes of the site do."""
    from_transport = models.ForeignKey(Transport, on_delete=models.CASCADE, null=True, related_name="+")
    to_transport = models.ForeignKey(Transport, on_delete=models.CASCADE, related_name="+")
    at = models.DateTimeField(db_index=True)
    why = models.CharField(max_length=300, blank=True)

    def __str__(self) -> str:
        return f"{self.from_transport} to {self.to_transport}"


class Interval(models.Model):
    """What the probes of a path came to; times are microseconds, NaN is not known."""

    pk = models.CompositePrimaryKey("path_id", "at")
    at = models.DateTimeField()
    """Its begin."""
    path = models.ForeignKey(Path, on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+")
    sent = models.IntegerField()
    lost = models.IntegerField()
    wrong = models.IntegerField()
    """Answers of services that were not the right ones."""
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
    lookup = models.FloatField()
    connected = models.FloatField()
    secured = models.FloatField()
    first_octet = models.FloatField()
    certificate_days = models.FloatField()

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


class Judged(models.Model):
    """Minutes of a path within an hour, by whether what was promised then was kept."""

    pk = models.CompositePrimaryKey("path_id", "at")
    path = models.ForeignKey(Path, on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+")
    at = models.DateTimeField()
    service_class = models.ForeignKey(
        ServiceClass, on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )
    share = models.FloatField()
    """What was promised, per cent."""
    judged = models.SmallIntegerField()
    missed = models.SmallIntegerField()
    """Of the judged ones."""
    available = models.SmallIntegerField()
    """Of the judged ones, those with at least one right answer."""
    excluded = models.SmallIntegerField()
    """In agreed maintenance."""
    delay_missed = models.SmallIntegerField()
    jitter_missed = models.SmallIntegerField()
    variation_missed = models.SmallIntegerField()
    loss_missed = models.SmallIntegerField()
    mos_missed = models.SmallIntegerField()
    failed_missed = models.SmallIntegerField()

    class Meta:
        """Partitioned by months of thirty days; made by a migration."""

        db_table = "paths_judged"
