"""The application's registration."""

from django.apps import AppConfig


class Calling(AppConfig):
    """Contacts, teams, call plans, and the channels by which messages go out."""

    name = "lumtar.domain.calling"
    label = "calling"
    default_auto_field = "django.db.models.BigAutoField"
