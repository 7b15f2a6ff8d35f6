"""The application's registration."""

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class Audit(AppConfig):
    """The audit trail."""

    name = "lumtar.domain.audit"
    label = "audit"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """The trail is kept by triggers."""
        from lumtar.domain.audit import triggers

        post_migrate.connect(triggers.install, sender=self, dispatch_uid="triggers")
