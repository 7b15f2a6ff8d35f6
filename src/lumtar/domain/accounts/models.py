"""What people may do, their tokens and their sessions. The users themselves are Django's."""

from django.conf import settings
from django.db import models
from django.utils import timezone

from lumtar.core.access import Role

ROLES = [(role.value, role.value) for role in Role]


class Account(models.Model):
    """What a user may do: a role, and if there are any, the sites and groups that this is limited to."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="account")
    role = models.CharField(max_length=16, choices=ROLES, default=Role.VIEWER)
    sites = models.ManyToManyField("inventory.Site", blank=True, related_name="+")
    groups = models.ManyToManyField("inventory.Group", blank=True, related_name="+")
    edition = models.PositiveIntegerField(default=1)
    changed_at = models.DateTimeField(default=timezone.now)
    changed_by = models.CharField(max_length=150, blank=True)

    class Meta:
        """In words."""

        verbose_name = "person"

    def __str__(self) -> str:
        return self.user.get_username()


class ApiToken(models.Model):
    """A token of a user. Only its digest is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="api_tokens")
    name = models.CharField(max_length=80, default="token")
    role = models.CharField(max_length=16, choices=ROLES, default=Role.VIEWER)
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)
    used_at = models.DateTimeField(null=True)
    used_from = models.GenericIPAddressField(null=True)


class SignedIn(models.Model):
    """A session of a browser: whose, from where, and when it was used last."""

    session = models.CharField(max_length=40, primary_key=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="signed_in")
    created_at = models.DateTimeField(default=timezone.now)
    seen_at = models.DateTimeField(default=timezone.now)
    address = models.GenericIPAddressField(null=True)
    browser = models.CharField(max_length=200, blank=True)
