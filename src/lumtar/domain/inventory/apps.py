"""The application's registration."""

from django.apps import AppConfig


class Inventory(AppConfig):
    """What there is: sites, devices, interfaces, components, and how devices are spoken to."""

    name = "lumtar.domain.inventory"
    label = "inventory"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """Say what resources there are."""
        from lumtar.domain.inventory import resources  # noqa: F401
