"""The application's registration."""

from django.apps import AppConfig


class Logbook(AppConfig):
    """What happened, on one time axis."""

    name = "lumtar.domain.logbook"
    label = "logbook"
    default_auto_field = "django.db.models.BigAutoField"
