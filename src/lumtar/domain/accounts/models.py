"""Tokens for the API; users are Django's."""

from django.conf import settings
from django.db import models


class ApiToken(models.Model):
    """A token of a user. Only its digest is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="api_tokens")
    digest = models.CharField(max_length=64, unique=True)
    created_at = models.DateTimeField(auto_now_add=True)
    used_at = models.DateTimeField(null=True)
