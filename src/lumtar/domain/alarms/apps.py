"""The application's registration."""

from django.apps import AppConfig


class Alarms(AppConfig):
    """What is watched, what is wrong, who was told."""

    name = "lumtar.domain.alarms"
    label = "alarms"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Follow what happens to devices."""
        from lumtar.domain.alarms import services  # noqa: F401
