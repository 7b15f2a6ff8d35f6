"""Watched traffic, scans, and strangers to lists of known addresses."""

from django.db import models
from django.utils import timezone

from lumtar.domain.flows.halves import address_of


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
