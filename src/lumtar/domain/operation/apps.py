"""The application's registration."""

from django.apps import AppConfig


class Operation(AppConfig):
    """Lumtar's own processes and secrets."""

    name = "lumtar.domain.operation"
    label = "operation"
    default_auto_field = "django.db.models.BigAutoField"
