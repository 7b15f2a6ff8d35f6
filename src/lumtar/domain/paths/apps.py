"""The app."""

from django.apps import AppConfig


class PathsConfig(AppConfig):
    """Paths that are probed."""

    name = "lumtar.domain.paths"
    label = "paths"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Say what resources there are."""
        from lumtar.domain.paths import resources  # noqa: F401
