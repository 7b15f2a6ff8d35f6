"""The logbook's entries."""

from django.db import models


class Entry(models.Model):
    """Something that happened to a device or to one of its interfaces."""

    class Kind(models.TextChoices):
        """What kind of thing happened."""

        STATE = "state", "interface state"
        SPEED = "speed", "interface speed"
        RESTART = "restart", "device restarted"
        INVENTORY = "inventory", "interfaces came, went or were renamed"
        REACH = "reach", "reachability"
        TOPOLOGY = "topology", "neighbours came or went"
        TRAP = "trap", "the device sent a trap"
        USER = "user", "user action"
        LUMTAR = "lumtar", "Lumtar itself"

    at = models.DateTimeField()
    kind = models.CharField(max_length=12, choices=Kind.choices)
    device = models.ForeignKey("inventory.Device", on_delete=models.CASCADE, null=True, related_name="entries")
    interface = models.ForeignKey("inventory.Interface", on_delete=models.CASCADE, null=True, related_name="entries")
    by = models.CharField(max_length=150, blank=True)
    text = models.CharField(max_length=400)

    class Meta:
        """Read by time, or by device and time."""

        indexes = [models.Index(fields=["-at"]), models.Index(fields=["device", "-at"])]
