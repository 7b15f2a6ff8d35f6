"""The application's registration."""

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class Accounts(AppConfig):
    """Who may use Lumtar, and for what."""

    name = "lumtar.domain.accounts"
    label = "accounts"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """What people may see is kept by the database itself."""
        from lumtar.domain.accounts import limits

        post_migrate.connect(limits.install, sender=self, dispatch_uid="limits")
