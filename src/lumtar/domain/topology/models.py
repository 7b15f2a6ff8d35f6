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
    """When a device was last asked for its neighbours, what that cost, and why it failed."""

    device = models.OneToOneField(
        "inventory.Device", on_delete=models.CASCADE, primary_key=True, related_name="neighbour_look"
    )
    at = models.DateTimeField()
    took_ms = models.FloatField()
    requests = models.IntegerField()
    neighbours = models.IntegerField()
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
