"""Sites, credentials, devices, interfaces, components."""

from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.utils import timezone

from lumtar.core.labels import Role
from lumtar.core.profiles import DeviceKind, every_table
from lumtar.core.reach import PRIVATE


class Site(models.Model):
    """Where devices are."""

    name = models.CharField(max_length=80, unique=True)

    def __str__(self) -> str:
        return self.name


class WithoutSecret(models.Manager["Credential"]):
    """Leaves the secret where it is until somebody opens it: who is limited to a part of the network may not read it."""

    def get_queryset(self) -> "models.QuerySet[Credential]":
        """Credentials without what is sealed."""
        return super().get_queryset().defer("sealed")


class Credential(models.Model):
    """How devices are spoken to. ``sealed`` is encrypted and is never shown again.

    It is tried at its sites, or everywhere if it has none, in the order of ``place``.
    ``edition`` counts changes, so that two people do not overwrite each other.
    """

    class Kind(models.TextChoices):
        """Versions of SNMP."""

        V1 = "v1", "SNMP version 1"
        V2C = "v2c", "SNMP version 2c"
        V3 = "v3", "SNMP version 3"

    name = models.CharField(max_length=80, unique=True)
    kind = models.CharField(max_length=4, choices=Kind.choices)
    sealed = models.TextField()
    ranges = models.TextField(default=PRIVATE, blank=True)
    """To which addresses it may be sent."""
    is_for_writing = models.BooleanField(default=False)
    """Devices are changed with it; it is never tried for reading."""
    sites = models.ManyToManyField(Site, blank=True, related_name="credentials")
    place = models.PositiveIntegerField(default=0)
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    objects = WithoutSecret()

    class Meta:
        """In the order of trying."""

        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return self.name


class Writing(models.Model):
    """Whether Lumtar may change anything on devices: one row. Without it nothing may be."""

    is_allowed = models.BooleanField(default=False)
    changed_at = models.DateTimeField(null=True)
    changed_by = models.CharField(max_length=150, blank=True)

    def __str__(self) -> str:
        return "writing allowed" if self.is_allowed else "read-only"


class Group(models.Model):
    """A named set of ports.

    It holds the ports of its devices, the ports that were put into it by hand, those for which its
    condition holds now, and whatever is in its parts, which are groups.
    """

    name = models.CharField(max_length=80, unique=True)
    condition = models.TextField(blank=True)
    is_transport = models.BooleanField(default=False)
    """Its ports are joined by a network that is not in the inventory, like that of a provider."""
    ports: "models.ManyToManyField[Interface, models.Model]" = models.ManyToManyField(
        "Interface", blank=True, related_name="groups"
    )
    subgroups = models.ManyToManyField(
        "self", blank=True, symmetrical=False, related_name="outer_groups", db_table="inventory_group_parts"
    )
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """By name, as people look for them."""

        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class OwnField(models.Model):
    """A field that an installation adds to its devices."""

    class Kind(models.TextChoices):
        """What such a field holds."""

        TEXT = "text", "text"
        NUMBER = "number", "number"
        DATE = "date", "date"
        CHOICE = "choice", "one of these"

    name = models.CharField(max_length=60, unique=True)
    kind = models.CharField(max_length=8, choices=Kind.choices, default=Kind.TEXT)
    choices = models.JSONField(default=list)

    class Meta:
        """By name, as people look for them."""

        ordering = ["name"]


class Profile(models.Model):
    """What is read from a kind of device, and how the kind is recognised.

    ``objects_read`` holds the fields of :class:`lumtar.core.own_objects.ExtraObject`. Devices keep their
    own copy of what is read (``Device.reads``), so that a change can be for later devices alone.
    """

    name = models.CharField(max_length=80, unique=True)
    kind = models.CharField(max_length=24, choices=[(kind, kind) for kind in DeviceKind], default=DeviceKind.OTHER)
    prefixes = models.JSONField(default=list)
    condition = models.TextField(blank=True)
    tables = models.JSONField(default=every_table)
    objects_read = models.JSONField(default=list)
    interval_s = models.PositiveIntegerField(null=True)
    label_template = models.CharField(max_length=120, blank=True)
    neighbour_table = models.JSONField(default=dict)
    """The fields of core's NeighbourTable; empty if there is none."""
    wireless_tables = models.JSONField(default=dict)
    """The fields of core's WirelessTables; empty if there are none."""
    restart = models.JSONField(default=dict)
    """The fields of core's Restart; empty if devices cannot be restarted."""
    last_gasps: "ArrayField[list[str], list[str]]" = ArrayField(models.CharField(max_length=400), default=list)
    """Notifications by which devices say that they lose their power."""
    place = models.PositiveIntegerField(default=0)
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """In the order in which equal ones are weighed."""

        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return self.name


class Device(models.Model):
    """A managed box, and what it said of itself."""

    class Way(models.TextChoices):
        """By what it is watched: one that does not speak SNMP still answers echoes or opens a port."""

        SNMP = "snmp", "SNMP"
        ICMP = "icmp", "ICMP echo"
        TCP = "tcp", "TCP port"

    name = models.CharField(max_length=120)
    address = models.CharField(max_length=253)
    port = models.PositiveIntegerField(default=161)
    site = models.ForeignKey(Site, on_delete=models.SET_NULL, null=True, related_name="devices")
    way = models.CharField(max_length=4, choices=Way.choices, default=Way.SNMP)
    credential = models.ForeignKey(Credential, on_delete=models.PROTECT, null=True, related_name="devices")
    groups = models.ManyToManyField(Group, blank=True, related_name="devices")
    hangs_on: "models.ManyToManyField[Device, models.Model]" = models.ManyToManyField(
        "self", symmetrical=False, blank=True, related_name="carries"
    )
    """The devices by which it is reached, each of which is enough."""
    tags = models.JSONField(default=dict, blank=True)
    own = models.JSONField(default=dict, blank=True)
    profile = models.ForeignKey(Profile, on_delete=models.SET_NULL, null=True, related_name="devices")
    profile_by = models.CharField(max_length=400, blank=True)
    """Why it has its profile; empty if somebody chose it."""
    reads = models.JSONField(default=dict, blank=True)
    label_template = models.CharField(max_length=120, blank=True)
    edition = models.PositiveIntegerField(default=1)
    retired_at = models.DateTimeField(null=True)
    interval_s = models.PositiveIntegerField(default=60)
    timeout_s = models.FloatField(default=2.0)
    tries = models.PositiveSmallIntegerField(default=3)
    enabled = models.BooleanField(default=True)
    added_at = models.DateTimeField(default=timezone.now)

    sys_name = models.CharField(max_length=255, blank=True)
    sys_descr = models.CharField(max_length=255, blank=True)
    sys_object_id = models.CharField(max_length=255, blank=True)
    location = models.CharField(max_length=255, blank=True)
    contact = models.CharField(max_length=255, blank=True)
    maker = models.CharField(max_length=255, blank=True)
    model = models.CharField(max_length=255, blank=True)
    serial = models.CharField(max_length=255, blank=True)
    software = models.CharField(max_length=255, blank=True)
    engine_id = models.CharField(max_length=64, blank=True)
    base_mac = models.CharField(max_length=17, blank=True)

    class Meta:
        """One entry for one agent."""

        constraints = [
            models.UniqueConstraint(fields=["address", "port", "way"], name="one_device_an_address_port_and_way")
        ]

    def __str__(self) -> str:
        return self.name


class Reach(models.TextChoices):
    """Whether a device answers."""

    UNKNOWN = "unknown", "not polled yet"
    ANSWERS = "answers", "answers"
    SILENT = "silent", "does not answer"


class DeviceState(models.Model):
    """The newest state of a device, written at every poll."""

    device = models.OneToOneField(Device, on_delete=models.CASCADE, primary_key=True, related_name="state")
    reach = models.CharField(max_length=8, choices=Reach.choices, default=Reach.UNKNOWN)
    since = models.DateTimeField(null=True)
    reason_kind = models.CharField(max_length=24, blank=True)
    reason = models.CharField(max_length=400, blank=True)
    silent_polls = models.PositiveIntegerField(default=0)
    polled_at = models.DateTimeField(null=True)
    answered_at = models.DateTimeField(null=True)
    next_poll_at = models.DateTimeField(null=True)
    started_at = models.DateTimeField(null=True)
    rtt_ms = models.FloatField(null=True)
    poll_ms = models.FloatField(null=True)
    requests = models.PositiveIntegerField(null=True)
    """Requests that its last poll took."""
    refused = models.JSONField(default=dict)
    """What its last poll gave and was not believed: by the name of the object, what was wrong with it."""
    refresh_kind = models.CharField(max_length=12, default="unknown")
    """How its agent refreshes its counters; see core/refresh.py."""
    refresh_low_s = models.FloatField(default=0.0)
    refresh_high_s = models.FloatField(default=0.0)


class PollRequest(models.Model):
    """Somebody wants a device polled now; the collector writes down what it did."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="poll_requests")
    asked_by = models.CharField(max_length=150, blank=True)
    asked_at = models.DateTimeField(default=timezone.now)
    done_at = models.DateTimeField(null=True)
    record = models.JSONField(default=dict)

    class Meta:
        """The collector looks for those that are not done."""

        indexes = [models.Index(fields=["asked_at"], condition=models.Q(done_at=None), name="poll_requests_open")]


class Interface(models.Model):
    """An interface of the IF-MIB. While the device does not list it ``gone_at`` is set, and it has no ifIndex (below 0)."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="interfaces")
    if_index = models.BigIntegerField()
    name = models.CharField(max_length=255, blank=True)
    descr = models.CharField(max_length=255, blank=True)
    alias = models.CharField(max_length=255, blank=True)
    label = models.CharField(max_length=255, blank=True)
    if_type = models.IntegerField(default=0)
    mac = models.CharField(max_length=17, blank=True)
    role = models.CharField(max_length=12, choices=[(role, role) for role in Role], blank=True)
    tags = models.JSONField(default=dict, blank=True)
    own_label = models.CharField(max_length=255, null=True)
    own_role = models.CharField(max_length=12, null=True)
    own_tags = models.JSONField(default=dict, blank=True)
    duplex = models.SmallIntegerField(default=0)
    """dot3StatsDuplexStatus (RFC 3635): 2 half, 3 full; 0 and 1 are unknown."""
    in_override_bps = models.BigIntegerField(null=True)
    out_override_bps = models.BigIntegerField(null=True)
    neighbour = models.CharField(max_length=255, blank=True)
    """The device at its other end, by name; of several the first. Kept by the topology app, for lists and conditions."""
    neighbour_kind = models.CharField(max_length=24, blank=True)
    """What that device is, if it is in the inventory: a DeviceKind."""
    first_seen = models.DateTimeField(default=timezone.now)
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """An index belongs to one interface; long lists are read in the order of their labels."""

        indexes = [
            models.Index(fields=["label", "id"], name="interfaces_by_label"),
            models.Index(fields=["neighbour"], condition=~models.Q(neighbour=""), name="interfaces_by_neighbour"),
        ]
        constraints = [
            models.UniqueConstraint(
                # At the end of a transaction: renumbered ports swap their indexes within one.
                fields=["device", "if_index"],
                name="one_interface_an_index",
                deferrable=models.Deferrable.DEFERRED,
            )
        ]

    def __str__(self) -> str:
        return self.label


class LabelRule(models.Model):
    """What ports that meet a condition are given. The first one that holds decides."""

    name = models.CharField(max_length=80, unique=True)
    condition = models.TextField(blank=True)
    role = models.CharField(max_length=12, choices=[(role, role) for role in Role], blank=True)
    template = models.CharField(max_length=120, blank=True)
    tags = models.JSONField(default=dict, blank=True)
    place = models.PositiveIntegerField(default=0)
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """In the order of deciding."""

        ordering = ["place", "pk"]

    def __str__(self) -> str:
        return self.name


class LabelRun(models.Model):
    """Ports were labelled anew: the collector takes that over."""

    at = models.DateTimeField(default=timezone.now)
    looked = models.PositiveIntegerField()
    changed = models.PositiveIntegerField()


class InterfaceSpeed(models.Model):
    """The speeds that an interface was measured against, from a time on: changing them does not falsify the past."""

    interface = models.ForeignKey(Interface, on_delete=models.CASCADE, related_name="speeds")
    since = models.DateTimeField()
    port_bps = models.BigIntegerField()
    in_bps = models.BigIntegerField()
    out_bps = models.BigIntegerField()
    in_source = models.CharField(max_length=12)
    out_source = models.CharField(max_length=12)

    class Meta:
        """Read by interface and time."""

        indexes = [
            # With the speeds in it, those of all interfaces are read without a look at the rows themselves.
            models.Index(fields=["interface", "-since"], include=["in_bps", "out_bps"], name="speeds_of_interfaces")
        ]


class InterfaceDuplex(models.Model):
    """The duplex of an interface from a time on (dot3StatsDuplexStatus)."""

    interface = models.ForeignKey(Interface, on_delete=models.CASCADE, related_name="+")
    since = models.DateTimeField()
    duplex = models.SmallIntegerField()

    class Meta:
        """Read by interface and time."""

        indexes = [models.Index(fields=["interface", "since"])]


class Component(models.Model):
    """A part of a device that gives one number: a processor's load, a sensor's value, a fan's state."""

    device = models.ForeignKey(Device, on_delete=models.CASCADE, related_name="components")
    kind = models.CharField(max_length=20)
    """A name of core/components."""
    index = models.CharField(max_length=400)
    """Within its table; of an object its whole identifier."""
    name = models.CharField(max_length=255)
    unit = models.CharField(max_length=18, blank=True)
    scale = models.FloatField(default=1.0)
    gone_at = models.DateTimeField(null=True)
    """Since when the device does not list it, or its profile does not read it."""

    class Meta:
        """An index belongs to one component of a kind."""

        constraints = [models.UniqueConstraint(fields=["device", "kind", "index"], name="one_component_an_index")]
