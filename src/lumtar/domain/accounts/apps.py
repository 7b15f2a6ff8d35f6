"""The application's registration."""

from django.apps import AppConfig


class Accounts(AppConfig):
    """Who may use Lumtar."""

    name = "lumtar.domain.accounts"
    label = "accounts"
    default_auto_field = "django.db.models.BigAutoField"
