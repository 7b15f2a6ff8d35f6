"""Readings, kept as what was counted. The tables of readings are partitioned by time (see partitions.py)."""

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models.functions import Now
from django.utils import timezone


class Reading(models.Model):
    """What one interface counted up to ``at``, over ``elapsed_ms``. ``flags`` are lumtar.core.counters.Flag."""

    pk = models.CompositePrimaryKey("interface_id", "at")
    interface = models.ForeignKey(
        "inventory.Interface", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False
    )
    at = models.DateTimeField()
    in_octets = models.BigIntegerField()
    out_octets = models.BigIntegerField()
    in_packets = models.BigIntegerField()
    out_packets = models.BigIntegerField()
    in_unicast = models.BigIntegerField(default=0)
    out_unicast = models.BigIntegerField(default=0)
    in_errors = models.BigIntegerField()
    out_errors = models.BigIntegerField()
    in_discards = models.BigIntegerField()
    out_discards = models.BigIntegerField()
    elapsed_ms = models.IntegerField()
    flags = models.SmallIntegerField()
    oper = models.SmallIntegerField()


class Sums(models.Model):
    """The sums of one interface over a time that begins at ``at``; what spans a gap is summed apart.

    ``void_readings`` counted nothing; the lowest and highest rates are those of single readings.
    """

    pk = models.CompositePrimaryKey("interface_id", "at")
    interface = models.ForeignKey(
        "inventory.Interface", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )
    at = models.DateTimeField()
    in_octets = models.BigIntegerField()
    out_octets = models.BigIntegerField()
    bridged_in_octets = models.BigIntegerField()
    bridged_out_octets = models.BigIntegerField()
    in_packets = models.BigIntegerField()
    out_packets = models.BigIntegerField()
    in_unicast = models.BigIntegerField(default=0)
    out_unicast = models.BigIntegerField(default=0)
    in_errors = models.BigIntegerField()
    out_errors = models.BigIntegerField()
    in_discards = models.BigIntegerField()
    out_discards = models.BigIntegerField()
    elapsed_ms = models.BigIntegerField()
    bridged_ms = models.BigIntegerField(default=0)
    in_min_bps = models.FloatField(null=True)
    out_min_bps = models.FloatField(null=True)
    in_max_bps = models.FloatField(null=True)
    out_max_bps = models.FloatField(null=True)
    readings = models.IntegerField()
    up_readings = models.IntegerField()
    void_readings = models.IntegerField(default=0)
    flags = models.SmallIntegerField()

    class Meta:
        """One table a level."""

        abstract = True


class FiveMinutes(Sums):
    """Sums over five minutes."""


class Hour(Sums):
    """Sums over an hour."""


class Day(Sums):
    """Sums over a day (UTC), with its five-minute means (lumtar.core.percentiles) and their 95th percentiles."""

    in_p95_bps = models.FloatField(null=True)
    out_p95_bps = models.FloatField(null=True)
    in_means = models.BinaryField(null=True)
    out_means = models.BinaryField(null=True)


class WrittenBatch(models.Model):
    """A batch of the collector that was written, for as long as it could come again."""

    id = models.UUIDField(primary_key=True)
    at = models.DateTimeField(db_default=Now())


class Due(models.Model):
    """Five minutes that have closed, or got a late reading, and are to be summed up."""

    at = models.DateTimeField(primary_key=True)


class RolledUp(models.Model):
    """Up to when everything is summed up, but for what is due. There is one row."""

    until = models.DateTimeField()


class Retention(models.Model):
    """For how many days each level is kept. There is one row."""

    readings_days = models.PositiveIntegerField(default=14)
    five_minutes_days = models.PositiveIntegerField(default=92)
    hours_days = models.PositiveIntegerField(default=1100)
    days_days = models.PositiveIntegerField(default=3700)
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)


class ValuesOfAnHour(models.Model):
    """The values of something over one hour that begins at ``at``."""

    at = models.DateTimeField()
    total = models.FloatField()
    lowest = models.FloatField()
    highest = models.FloatField()
    readings = models.IntegerField()

    class Meta:
        """One table a kind of subject."""

        abstract = True


class ComponentHour(ValuesOfAnHour):
    """The values of a component."""

    pk = models.CompositePrimaryKey("component_id", "at")
    component = models.ForeignKey(
        "inventory.Component", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )


class DeviceHour(ValuesOfAnHour):
    """How the polls of a device went; round trips in milliseconds."""

    pk = models.CompositePrimaryKey("device_id", "at")
    device = models.ForeignKey(
        "inventory.Device", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )


class ComponentReading(models.Model):
    """The value of a component."""

    pk = models.CompositePrimaryKey("component_id", "at")
    component = models.ForeignKey(
        "inventory.Component", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False
    )
    at = models.DateTimeField()
    value = models.FloatField()


class DeviceReading(models.Model):
    """How one poll of a device went: round trip of its first request, and the whole poll, in milliseconds."""

    pk = models.CompositePrimaryKey("device_id", "at")
    device = models.ForeignKey("inventory.Device", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False)
    at = models.DateTimeField()
    rtt_ms = models.FloatField()
    poll_ms = models.FloatField()


class Newest(models.Model):
    """The newest poll of an interface: raw counters to go on from (as signed 64-bit numbers), and the rates."""

    interface = models.OneToOneField(
        "inventory.Interface", on_delete=models.CASCADE, primary_key=True, related_name="newest"
    )
    at = models.DateTimeField()
    base_at = models.DateTimeField()
    since = models.DateTimeField()
    uptime = models.BigIntegerField()
    discontinuity = models.BigIntegerField()
    port_bps = models.BigIntegerField()
    counters = ArrayField(models.BigIntegerField(), size=12)
    in_bps = models.FloatField(null=True)
    out_bps = models.FloatField(null=True)
    in_percent = models.FloatField(null=True)
    out_percent = models.FloatField(null=True)
    error_rate = models.FloatField(null=True)
    flags = models.SmallIntegerField()
    oper = models.SmallIntegerField()
    admin = models.SmallIntegerField()
    holds = models.SmallIntegerField()
    moved = models.BooleanField()
    present = models.BooleanField()
    wide = models.BooleanField()
    excess = models.SmallIntegerField(default=0)
    """See core/speeds.py."""


class Gap(models.Model):
    """A time for which there are no readings, and why. Without a device it holds for all of them."""

    class Reason(models.TextChoices):
        """Why nothing was read."""

        SILENT = "silent", "no answer"
        COLLECTOR = "collector", "collector not running"
        DROPPED = "dropped", "read, but not kept"
        RETIRED = "retired", "retired"

    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, null=True, related_name="gaps")
    start = models.DateTimeField()
    end = models.DateTimeField(null=True)
    reason = models.CharField(max_length=10, choices=Reason.choices)
    words = models.CharField(max_length=400)

    class Meta:
        """Read by device and time."""

        indexes = [models.Index(fields=["device", "start"])]


class EthernetErrors(models.Model):
    """What only Ethernet counts (RFC 3635), over ``seconds`` up to ``at``; there is no row where there were no errors."""

    pk = models.CompositePrimaryKey("interface_id", "at")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, db_index=False, related_name="+")
    at = models.DateTimeField()
    seconds = models.FloatField()
    fcs_errors = models.BigIntegerField()
    alignment_errors = models.BigIntegerField()
    late_collisions = models.BigIntegerField()


class LiveWish(models.Model):
    """Somebody looks at an interface; it is read every so often until then."""

    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, related_name="+")
    by = models.CharField(max_length=150)
    every_s = models.SmallIntegerField()
    until = models.DateTimeField()

    class Meta:
        """One wish of one person for one interface."""

        constraints = [models.UniqueConstraint(fields=["interface", "by"], name="one_live_wish")]


class LiveReading(models.Model):
    """What one interface counted up to ``at`` while somebody looked; kept for an hour."""

    pk = models.CompositePrimaryKey("interface_id", "at")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, db_index=False, related_name="+")
    at = models.DateTimeField()
    elapsed_ms = models.IntegerField()
    in_octets = models.BigIntegerField()
    out_octets = models.BigIntegerField()
    flags = models.SmallIntegerField()
    oper = models.SmallIntegerField()


class LiveState(models.Model):
    """How looking at a device goes: how often it is read now, and what is to be said of it."""

    device = models.OneToOneField("inventory.Device", on_delete=models.CASCADE, primary_key=True, related_name="+")
    at = models.DateTimeField()
    every_s = models.FloatField()
    took_ms = models.FloatField()
    words = models.CharField(max_length=400, blank=True)
