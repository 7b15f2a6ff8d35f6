"""Exporters of flows, and totals of conversations over interfaces by minute and by hour."""

from django.db import models
from django.utils import timezone

from lumtar.domain.flows.halves import address_of


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

    class Meta:
        """Partitioned by hours; made by a migration."""

        db_table = "flows_record"


class WatchedTraffic(models.Model):
    """Traffic that is asked for again and again, and that rules can be about: filters by their names, as the screen has them."""

    name = models.CharField(max_length=120, unique=True)
    filters = models.JSONField(default=dict)
    since = models.DateTimeField(default=timezone.now)
    seen_until = models.DateTimeField(default=timezone.now)
    """Up to when it was noted what was seen in it for the first time."""

    def __str__(self) -> str:
        return self.name


class FirstSeen(models.Model):
    """An application (by its number) or a sender (by its address) that was seen in watched traffic for the first time."""

    class Kind(models.IntegerChoices):
        """What was seen."""

        APPLICATION = 0
        SENDER = 1

    traffic = models.ForeignKey(WatchedTraffic, on_delete=models.CASCADE, related_name="seen")
    kind = models.SmallIntegerField(choices=Kind.choices)
    hi = models.BigIntegerField()
    lo = models.BigIntegerField()
    first_at = models.DateTimeField()

    class Meta:
        """Each once."""

        constraints = [models.UniqueConstraint(fields=["traffic", "kind", "hi", "lo"], name="one_first_sight")]
        indexes = [models.Index(fields=["traffic", "first_at"])]


class FanOut(models.Model):
    """A sender that reached many receivers within a minute, or tried many ports at one of them; at the port by which it came in."""

    at = models.DateTimeField(db_index=True)
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, related_name="+")
    src_hi = models.BigIntegerField()
    src_lo = models.BigIntegerField()
    receivers = models.IntegerField()
    ports = models.IntegerField()
    """The most that were tried at one receiver."""
    dst_hi = models.BigIntegerField()
    dst_lo = models.BigIntegerField()
    """That receiver."""
    octets = models.BigIntegerField()

    def __str__(self) -> str:
        return f"{self.sender} reached {self.receivers} receivers"

    @property
    def sender(self) -> str:
        """Its address as text."""
        return address_of(self.src_hi, self.src_lo)

    @property
    def receiver(self) -> str:
        """At whom most ports were tried."""
        return address_of(self.dst_hi, self.dst_lo)


class AddressList(models.Model):
    """Addresses that are expected within a range: whoever else is seen there is a stranger. Or addresses that must not be seen at all."""

    name = models.CharField(max_length=120, unique=True)
    is_deny = models.BooleanField(default=False)
    within = models.TextField(blank=True)
    listed = models.TextField(blank=True)
    enabled = models.BooleanField(default=True)

    def __str__(self) -> str:
        return self.name


class Stranger(models.Model):
    """An address that is not known to a list: when and where it was seen, with whom, and how much at that port."""

    known = models.ForeignKey(AddressList, on_delete=models.CASCADE, related_name="strangers")
    hi = models.BigIntegerField()
    lo = models.BigIntegerField()
    first_at = models.DateTimeField()
    last_at = models.DateTimeField()
    interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="+")
    """Where it was seen first."""
    peer_hi = models.BigIntegerField()
    peer_lo = models.BigIntegerField()
    port = models.IntegerField()
    protocol = models.SmallIntegerField()
    octets = models.BigIntegerField(default=0)
    accepted_at = models.DateTimeField(null=True)
    accepted_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """Once a list."""

        constraints = [models.UniqueConstraint(fields=["known", "hi", "lo"], name="one_stranger_a_list")]
        indexes = [models.Index(fields=["known", "accepted_at", "last_at"])]

    def __str__(self) -> str:
        return self.address

    @property
    def address(self) -> str:
        """Its address as text."""
        return address_of(self.hi, self.lo)

    @property
    def peer(self) -> str:
        """With whom it was seen first."""
        return address_of(self.peer_hi, self.peer_lo)


class OwnApplication(models.Model):
    """An application that somebody defined; later ones go before earlier ones, and all of them before what is built in."""

    FIRST_NUMBER = 1000
    """Its number among all applications is its own after this; those that are built in have lower ones."""

    name = models.CharField(max_length=80, unique=True)
    protocols = models.JSONField(default=list)
    ports = models.CharField(max_length=500, blank=True)
    addresses = models.TextField(blank=True)
    told = models.JSONField(default=list)
    """What exporters call it (applicationId, RFC 6759)."""

    def __str__(self) -> str:
        return self.name

    @property
    def number(self) -> int:
        """By which conversations know it."""
        return self.FIRST_NUMBER + self.pk


class PrefixTable(models.Model):
    """Autonomous systems, or places, by prefix, as somebody loaded them: the text of a CSV file."""

    class Kind(models.TextChoices):
        """What the prefixes tell."""

        SYSTEMS = "systems"
        PLACES = "places"

    kind = models.CharField(max_length=10, choices=Kind.choices, unique=True)
    text = models.TextField()
    rows = models.IntegerField()
    loaded_at = models.DateTimeField()
    by = models.CharField(max_length=150)

    def __str__(self) -> str:
        return f"{self.kind}, {self.rows} prefixes"


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


class AddressName(models.Model):
    """What DNS calls an address; nothing, if it has no name."""

    address = models.GenericIPAddressField(primary_key=True)
    name = models.CharField(max_length=255, blank=True)
    asked_at = models.DateTimeField(db_index=True)

    def __str__(self) -> str:
        return f"{self.address} {self.name}"
