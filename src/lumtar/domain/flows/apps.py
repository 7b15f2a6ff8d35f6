"""The app."""

from django.apps import AppConfig


class FlowsConfig(AppConfig):
    """Flow records: who exports them, and totals of conversations."""

    name = "lumtar.domain.flows"
    label = "flows"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Say what resources there are."""
        from lumtar.domain.flows import resources  # noqa: F401
