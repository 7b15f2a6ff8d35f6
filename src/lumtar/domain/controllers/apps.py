"""The app."""

from django.apps import AppConfig


class ControllersConfig(AppConfig):
    """Controllers that are asked over REST."""

    name = "lumtar.domain.controllers"
    label = "controllers"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Say what resources there are."""
        from lumtar.domain.controllers import resources  # noqa: F401
