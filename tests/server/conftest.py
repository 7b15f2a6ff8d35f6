"""Somebody who is signed in."""

import pytest
from django.contrib.auth.models import User
from django.test import Client


@pytest.fixture(autouse=True)
def quickly_hashed(settings):
    """Hashing a password well takes a tenth of a second, which these tests would only wait for."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]


@pytest.fixture
def user(db):
    return User.objects.create_superuser("anna", password="a-good-long-word")


@pytest.fixture
def client(user):
    made = Client()
    made.force_login(user)
    return made
