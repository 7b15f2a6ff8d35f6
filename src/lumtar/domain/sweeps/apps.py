"""The application's registration."""

from django.apps import AppConfig


class Sweeps(AppConfig):
    """Sweeps of address ranges, what they found, and what is done with it."""

    name = "lumtar.domain.sweeps"
    label = "sweeps"
    default_auto_field = "django.db.models.BigAutoField"
