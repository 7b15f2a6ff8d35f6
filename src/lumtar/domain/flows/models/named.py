"""What traffic is called: applications, tables by prefix, names of addresses."""

from django.db import models


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
    server_names = models.TextField(blank=True)
    """Names that clients ask for; each means everything beneath it as well."""

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


class AddressName(models.Model):
    """What DNS calls an address; nothing, if it has no name."""

    address = models.GenericIPAddressField(primary_key=True)
    name = models.CharField(max_length=255, blank=True)
    asked_at = models.DateTimeField(db_index=True)

    def __str__(self) -> str:
        return f"{self.address} {self.name}"
