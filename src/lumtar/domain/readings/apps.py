"""The application's registration."""

from django.apps import AppConfig


class Readings(AppConfig):
    """What was counted and measured, when."""

    name = "lumtar.domain.readings"
    label = "readings"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Follow what happens to devices."""
        from lumtar.domain.readings import gaps  # noqa: F401
