"""The application's registration."""

from django.apps import AppConfig


class Inventory(AppConfig):
    """What there is: sites, devices, interfaces, components, and how devices are spoken to."""

    name = "lumtar.domain.inventory"
    label = "inventory"
    default_auto_field = "django.db.models.BigAutoField"
