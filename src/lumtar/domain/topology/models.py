"""Neighbours as devices told of them and links as people entered them, over time; where things are on the map."""

from django.contrib.postgres.fields import ArrayField
from django.db import models


class Neighbour(models.Model):
    """A neighbour that a device saw at one of its ports, from ``since`` until ``gone_at``; None while it is still seen."""

    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="neighbours")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="neighbours")
    """None if the device does not say which of its interfaces it is."""
    local_port = models.CharField(max_length=255)
    chassis_kind = models.CharField(max_length=20)
    chassis = models.CharField(max_length=800)
    port_kind = models.CharField(max_length=20)
    port = models.CharField(max_length=800)
    port_descr = models.CharField(max_length=255, blank=True)
    sys_name = models.CharField(max_length=255, blank=True)
    sys_descr = models.CharField(max_length=255, blank=True)
    addresses: "ArrayField[list[str], list[str]]" = ArrayField(models.CharField(max_length=45), default=list)
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)
    to_device = models.ForeignKey("inventory.Device", on_delete=models.SET_NULL, null=True, related_name="seen_by")
    """Who it is, as far as the inventory knows; ``reason`` says by what."""
    to_interface = models.ForeignKey(
        "inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="seen_by"
    )
    reason = models.CharField(max_length=300, blank=True)

    class Meta:
        """Asked for by device, and all that hold now."""

        indexes = [
            models.Index(fields=["device", "since"]),
            models.Index(fields=["interface"], condition=models.Q(gone_at=None), name="neighbours_now"),
        ]


class NeighbourLook(models.Model):
    """When a device was last asked for what is around it, what that cost, and why it failed."""

    device = models.OneToOneField(
        "inventory.Device", on_delete=models.CASCADE, primary_key=True, related_name="neighbour_look"
    )
    at = models.DateTimeField()
    took_ms = models.FloatField()
    requests = models.IntegerField()
    neighbours = models.IntegerField()
    stations = models.IntegerField(default=0)
    """Entries of its forwarding table."""
    bindings = models.IntegerField(default=0)
    """Addresses of others that it knew."""
    routes = models.IntegerField(default=0)
    clients = models.IntegerField(default=0)
    """Wireless clients that it told of."""
    problem = models.CharField(max_length=300, blank=True)


class ManualLink(models.Model):
    """A link that somebody entered, from ``since`` until ``gone_at``; a port is None where it is not known."""

    a_device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="+")
    a_interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="+")
    b_device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="+")
    b_interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="+")
    note = models.CharField(max_length=200, blank=True)
    entered_by = models.CharField(max_length=150)
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)

    def __str__(self) -> str:
        return f"link {self.pk}"


class MapPosition(models.Model):
    """Where a node stands on a map, for everybody (``person`` is None) or as somebody arranged it."""

    map = models.CharField(max_length=40)
    node = models.CharField(max_length=40)
    x = models.FloatField()
    y = models.FloatField()
    by_hand = models.BooleanField(default=False)
    person = models.ForeignKey("auth.User", on_delete=models.CASCADE, null=True, related_name="+")

    class Meta:
        """One place a node on each map."""

        constraints = [
            models.UniqueConstraint(fields=["map", "node", "person"], nulls_distinct=False, name="one_place_a_node")
        ]


class Bridge(models.Model):
    """What a device told of itself as a bridge when it was asked last; ``forwarding`` is core's packed forwarding table."""

    device = models.OneToOneField("inventory.Device", on_delete=models.CASCADE, primary_key=True, related_name="bridge")
    at = models.DateTimeField()
    address = models.CharField(max_length=17, blank=True)
    forwarding = models.BinaryField()
    stations = models.IntegerField()
    """Entries of the forwarding table."""
    root = models.CharField(max_length=40, blank=True)
    """Priority and address of the bridge at the root of the spanning tree; empty without one."""
    root_interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="+")
    root_cost = models.BigIntegerField(null=True)
    root_since = models.DateTimeField(null=True)
    """Since when it is another root than before; None if that was never seen to change."""
    changes = models.BigIntegerField(null=True)
    """dot1dStpTopChanges, a counter."""
    changes_per_hour = models.FloatField(null=True)
    vlans = models.JSONField(default=dict)
    """Names by number."""


class PortLayer2(models.Model):
    """What a port is in its bridge, as the device told last: its VLANs, its aggregate, what it does in the spanning tree."""

    interface = models.OneToOneField(
        "inventory.Interface", on_delete=models.CASCADE, primary_key=True, related_name="layer2"
    )
    aggregate = models.ForeignKey(
        "inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="members_layer2"
    )
    stp_role = models.CharField(max_length=12, blank=True)
    stp_since = models.DateTimeField(null=True)
    """Since when it does something else than before; None if that was never seen to change."""
    pvid = models.IntegerField(default=0)
    tagged: "ArrayField[list[int], list[int]]" = ArrayField(models.IntegerField(), default=list)
    untagged: "ArrayField[list[int], list[int]]" = ArrayField(models.IntegerField(), default=list)
    mtu = models.IntegerField(default=0)
    """0 if it is not known."""
    carriers: "ArrayField[list[int], list[int]]" = ArrayField(models.BigIntegerField(), default=list)
    """The interfaces that it runs over, by number: of a tunnel those that carry it."""


class Station(models.Model):
    """Somebody's MAC address at a port that leads to no device of the inventory, from ``since`` until ``gone_at``."""

    mac = models.CharField(max_length=17)
    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="+")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, related_name="stations")
    vlan = models.IntegerField(default=0)
    """0 if it is not known."""
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """Asked for by address, by port, and all of a device that hold now."""

        indexes = [
            models.Index(fields=["mac", "since"]),
            models.Index(fields=["interface", "since"]),
            models.Index(fields=["device"], condition=models.Q(gone_at=None), name="stations_now"),
            models.Index(fields=["since"], name="stations_by_time"),
        ]


class Binding(models.Model):
    """An address and the MAC address that a device learnt for it (ARP, neighbour discovery), from ``since`` until ``gone_at``."""

    address = models.GenericIPAddressField()
    mac = models.CharField(max_length=17)
    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="+")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, related_name="+")
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """Asked for by either address, and all of a device that hold now."""

        indexes = [
            models.Index(fields=["address", "since"]),
            models.Index(fields=["mac", "since"]),
            models.Index(fields=["device"], condition=models.Q(gone_at=None), name="bindings_now"),
        ]


class OwnAddress(models.Model):
    """An address that a device has itself at an interface, as it told last."""

    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="own_addresses")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, related_name="own_addresses")
    address = models.GenericIPAddressField()
    prefix = models.SmallIntegerField(null=True)

    class Meta:
        """Asked for by address."""

        indexes = [models.Index(fields=["address"])]


class Route(models.Model):
    """Where a device sent packets for a network, from ``since`` until ``gone_at``."""

    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="routes")
    network = models.CharField(max_length=43)
    """An address with the length of its prefix."""
    next_hop = models.GenericIPAddressField(null=True)
    """None if the network is connected, or the way there is a tunnel that needs no address."""
    interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="+")
    protocol = models.CharField(max_length=16, blank=True)
    metric = models.IntegerField()
    """-1 if it is not known."""
    is_discarding = models.BooleanField(default=False)
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """Asked for by device."""

        indexes = [
            models.Index(fields=["device", "since"], name="routes_by_device"),
            models.Index(fields=["device"], condition=models.Q(gone_at=None), name="routes_now"),
        ]


class AccessPoint(models.Model):
    """An access point that a controller knows, or that is a device of the inventory and tells of its clients itself."""

    controller = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="access_points")
    key = models.CharField(max_length=200)
    """By what the controller tells it from others; empty if it is the device itself."""
    name = models.CharField(max_length=255)
    mac = models.CharField(max_length=17, blank=True)
    address = models.GenericIPAddressField(null=True)
    model = models.CharField(max_length=255, blank=True)
    is_up = models.BooleanField(null=True)
    """Whether it is joined to its controller; None if that is not told."""
    changed_at = models.DateTimeField()
    """Since when it is joined, or not any more."""
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """One row an access point; found by its MAC address."""

        constraints = [models.UniqueConstraint(fields=["controller", "key"], name="one_access_point_a_key")]
        indexes = [models.Index(fields=["mac"], name="access_points_by_mac")]

    def __str__(self) -> str:
        return self.name


class WirelessClient(models.Model):
    """A client of a wireless network at an access point, from ``since`` until ``gone_at``."""

    mac = models.CharField(max_length=17)
    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="wireless_clients")
    """The one that tells of it."""
    access_point = models.ForeignKey(AccessPoint, on_delete=models.CASCADE, related_name="clients")
    network = models.CharField(max_length=64)
    """The name (SSID) of the network."""
    address = models.GenericIPAddressField(null=True)
    signal_dbm = models.SmallIntegerField(null=True)
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)

    class Meta:
        """Asked for by address, by access point, and all of a device that hold now."""

        indexes = [
            models.Index(fields=["mac", "since"], name="clients_by_mac"),
            models.Index(fields=["access_point", "since"], name="clients_by_access_point"),
            models.Index(fields=["device"], condition=models.Q(gone_at=None), name="clients_now"),
        ]


class InferredLink(models.Model):
    """A link that follows from forwarding tables, from ``since`` until ``gone_at``; a port is None where it is not known."""

    a_device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="+")
    a_interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="+")
    b_device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, related_name="+")
    b_interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="+")
    contradiction = models.CharField(max_length=200, blank=True)
    since = models.DateTimeField()
    gone_at = models.DateTimeField(null=True)


class ExpectedLink(models.Model):
    """The neighbour that somebody froze as the expected one of a port; what is there is compared with it."""

    interface = models.OneToOneField(
        "inventory.Interface", on_delete=models.CASCADE, primary_key=True, related_name="expected_link"
    )
    to_device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, null=True, related_name="+")
    to_interface = models.ForeignKey("inventory.Interface", on_delete=models.SET_NULL, null=True, related_name="+")
    """The port of it; both are None if no device of the inventory is to be there."""
    name = models.CharField(max_length=800, blank=True)
    """What the neighbour calls itself, if it is not in the inventory."""
    is_whole = models.BooleanField(default=False)
    """All ports of the device are frozen: one without a row is to have no neighbour."""
    frozen_at = models.DateTimeField()
    frozen_by = models.CharField(max_length=150)


class MapBackground(models.Model):
    """A picture beneath a map, as a floor plan or a region: where it lies, in the map's own pixels."""

    map = models.CharField(max_length=40, unique=True)
    kind = models.CharField(max_length=20)
    """Its media type."""
    picture = models.BinaryField()
    x = models.FloatField()
    y = models.FloatField()
    width = models.FloatField()
    height = models.FloatField()
    changed_at = models.DateTimeField()
    changed_by = models.CharField(max_length=150)

    def __str__(self) -> str:
        return self.map
