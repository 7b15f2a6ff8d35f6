"""The app."""

from django.apps import AppConfig


class TopologyConfig(AppConfig):
    """Neighbours and links, bridges and stations."""

    name = "lumtar.domain.topology"
    label = "topology"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Say what resources there are."""
        from lumtar.domain.topology import resources  # noqa: F401
