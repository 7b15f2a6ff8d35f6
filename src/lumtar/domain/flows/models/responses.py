"""Response times by minute and by hour, and the fields that tell of them."""

from django.db import models

from lumtar.core.flows.declared import MICROSECONDS, Part


class ResponseTime(models.Model):
    """Response times of a server within a minute or an hour, for the clients of a site, as an exporter told of them; rows that are alike add up.

    Sums, numbers of answers, and the longest, of the network apart from the server; microseconds. ``in_id`` and ``out_id`` are the ports by which
    requests pass the exporter (0: none). Several that were put together (``is_rest``) have no server and no port.
    """

    pk = models.CompositePrimaryKey("device_id", "at")
    at = models.DateTimeField()
    server_hi = models.BigIntegerField()
    server_lo = models.BigIntegerField()
    network_us = models.BigIntegerField()
    network_number = models.BigIntegerField()
    network_longest_us = models.BigIntegerField()
    server_us = models.BigIntegerField()
    server_number = models.BigIntegerField()
    server_longest_us = models.BigIntegerField()
    in_id = models.BigIntegerField()
    out_id = models.BigIntegerField()
    device = models.ForeignKey(
        "inventory.Device", on_delete=models.DO_NOTHING, db_constraint=False, db_index=False, related_name="+"
    )
    application = models.IntegerField()
    client_site = models.IntegerField()
    server_site = models.IntegerField()
    port = models.IntegerField()
    protocol = models.SmallIntegerField()
    is_rest = models.BooleanField()

    class Meta:
        """Both levels have the same columns."""

        abstract = True


class ResponseMinute(ResponseTime):
    """Within a minute."""

    class Meta:
        """Partitioned by quarters of a day; made by a migration."""

        db_table = "flows_responseminute"


class ResponseHour(ResponseTime):
    """Within an hour."""

    class Meta:
        """Partitioned by weeks; made by a migration."""

        db_table = "flows_responsehour"


class DeclaredField(models.Model):
    """A field of flow records that no standard defines, as somebody declared it."""

    enterprise = models.BigIntegerField(default=0)
    """Who defines the element (RFC 7011 section 3.2); 0 is IANA, and all of NetFlow 9."""
    element = models.IntegerField()
    part = models.CharField(max_length=12, choices=[(str(each), str(each)) for each in Part])
    unit = models.CharField(max_length=2, choices=[(unit, unit) for unit in MICROSECONDS], default="µs")

    class Meta:
        """Each once."""

        constraints = [models.UniqueConstraint(fields=["enterprise", "element"], name="one_meaning_a_field")]

    def __str__(self) -> str:
        return (
            f"element {self.element} of enterprise {self.enterprise}" if self.enterprise else f"element {self.element}"
        )
