"""Exporters, their records, and totals of conversations by minute and by hour."""

from django.db import models
from django.utils import timezone


class Exporter(models.Model):
    """Whoever sends flow records: an address, by one protocol and from one observation domain; adopted if its address is a device's."""

    address = models.GenericIPAddressField()
    protocol = models.CharField(max_length=60)
    """NetFlow5, netflow9, ipfix, or sflow with the address of its agent."""
    domain = models.BigIntegerField()
    """Observation domain, engine or sub-agent."""
    device = models.ForeignKey("inventory.Device", on_delete=models.SET_NULL, null=True, related_name="exporters")
    first_at = models.DateTimeField(default=timezone.now)
    last_at = models.DateTimeField(default=timezone.now)
    records = models.BigIntegerField(default=0)
    datagrams = models.BigIntegerField(default=0)
    lost = models.BigIntegerField(default=0)
    """By the sequence numbers: records (NetFlow 5, IPFIX) or datagrams."""
    no_template = models.BigIntegerField(default=0)
    """Sets that were dropped since their template did not come in time."""
    malformed = models.BigIntegerField(default=0)
    rate = models.FloatField(default=0.0)
    """Records a second, lately."""
    skew_s = models.FloatField(default=0.0)
    """How far its clock is ahead of ours."""
    templates = models.JSONField(default=list)
    """Templates that it sent last, so that a restart of Lumtar loses nothing."""
    sampling = models.JSONField(default=dict)
    """One in so many packets by the sampler's number, as it says."""
    usual_sampling = models.PositiveIntegerField(null=True)
    """One in so many packets, as somebody set it since the exporter does not say."""

    class Meta:
        """One row a source."""

        constraints = [models.UniqueConstraint(fields=["address", "protocol", "domain"], name="one_exporter_a_domain")]

    def __str__(self) -> str:
        return f"{self.address} {self.protocol}"


class Conversation(models.Model):
    """What one address sent to another over an interface one way within a minute or an hour; rows that are alike add up.

    Addresses are two halves of 64 bits, as PostgreSQL keeps numbers: with a sign. Several conversations that were put together (``is_rest``)
    have none. ``is_counted`` where a conversation is counted once among all exporters.
    """

    pk = models.CompositePrimaryKey("interface_id", "at")
    at = models.DateTimeField()
    src_hi = models.BigIntegerField()
    src_lo = models.BigIntegerField()
    dst_hi = models.BigIntegerField()
    dst_lo = models.BigIntegerField()
    octets = models.BigIntegerField()
    packets = models.BigIntegerField()
    flows = models.BigIntegerField()
    interface = models.ForeignKey(
        "inventory.Interface", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )
    application = models.IntegerField()
    src_site = models.IntegerField()
    dst_site = models.IntegerField()
    port = models.IntegerField()
    protocol = models.SmallIntegerField()
    dscp = models.SmallIntegerField()
    way = models.SmallIntegerField()
    """0 in, 1 out."""
    is_rest = models.BooleanField()
    is_counted = models.BooleanField()

    class Meta:
        """Both levels have the same columns."""

        abstract = True


class Minute(Conversation):
    """Within a minute."""

    class Meta:
        """Partitioned by hours; made by a migration."""

        db_table = "flows_minute"


class Hour(Conversation):
    """Within an hour."""

    class Meta:
        """Partitioned by days; made by a migration."""

        db_table = "flows_hour"


class NetworkHour(Conversation):
    """Within an hour, of all exporters together, each conversation once; interface and way are 0."""

    class Meta:
        """Partitioned by weeks; made by a migration."""

        db_table = "flows_networkhour"


class Recording(models.Model):
    """Somebody wants the records of an exporter (of all of them, without a device) kept one by one until a time."""

    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, null=True, related_name="+")
    by = models.CharField(max_length=150)
    since = models.DateTimeField(default=timezone.now)
    until = models.DateTimeField()

    def __str__(self) -> str:
        return f"records of {self.device or 'all exporters'}"


class RecordLook(models.Model):
    """Somebody looks at records as they come, of a device or of all; ends soon after the screen does not ask any more."""

    by = models.CharField(max_length=150, unique=True)
    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, null=True, related_name="+")
    until = models.DateTimeField()

    def __str__(self) -> str:
        return f"{self.by} looks at {self.device or 'all exporters'}"


class Record(models.Model):
    """One record, as an exporter sent it: octets and packets as before sampling; interfaces by ifIndex and by the inventory's number (0: none)."""

    pk = models.CompositePrimaryKey("device_id", "at")
    at = models.DateTimeField()
    """When it came."""
    start = models.DateTimeField()
    end = models.DateTimeField()
    src_hi = models.BigIntegerField()
    src_lo = models.BigIntegerField()
    dst_hi = models.BigIntegerField()
    dst_lo = models.BigIntegerField()
    octets = models.BigIntegerField()
    packets = models.BigIntegerField()
    device = models.ForeignKey(
        "inventory.Device", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )
    in_id = models.BigIntegerField()
    out_id = models.BigIntegerField()
    input = models.BigIntegerField()
    output = models.BigIntegerField()
    src_as = models.BigIntegerField()
    dst_as = models.BigIntegerField()
    sampling = models.BigIntegerField()
    application_id = models.BigIntegerField()
    """What the exporter calls the application (RFC 6759), 0 if it does not say."""
    application = models.IntegerField()
    src_site = models.IntegerField()
    dst_site = models.IntegerField()
    src_port = models.IntegerField()
    dst_port = models.IntegerField()
    port = models.IntegerField()
    """Of the service."""
    protocol = models.SmallIntegerField()
    dscp = models.SmallIntegerField()
    ecn = models.SmallIntegerField()
    tcp_flags = models.SmallIntegerField()
    direction = models.SmallIntegerField()
    server_name = models.CharField(max_length=100, null=True)
    """Which server the client asked for; a char, since rows of one width are stored at once."""

    class Meta:
        """Partitioned by hours; made by a migration."""

        db_table = "flows_record"
