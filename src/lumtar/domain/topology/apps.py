"""The app."""

from django.apps import AppConfig


class TopologyConfig(AppConfig):
    """Neighbours and links."""

    name = "lumtar.domain.topology"
    label = "topology"
    default_auto_field = "django.db.models.BigAutoField"
