"""Making and recognising API tokens, and the first administrator."""

import hashlib
import secrets
from datetime import timedelta

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import connection, transaction
from django.utils import timezone

from lumtar.domain.accounts.models import ApiToken

OF_A_USER = frozenset(("id", "username", "is_active", "is_staff", "is_superuser"))
"""What is asked of somebody who comes with a token; the rest is fetched if it is wanted."""


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def new_token(user: User) -> str:
    """A new token; it is shown this once."""
    token = "lumtar_" + secrets.token_urlsafe(32)
    ApiToken.objects.create(user=user, digest=_digest(token))
    return token


def user_of_token(token: str) -> User | None:
    """Whose token this is, if it is one and its user may still sign in."""
    # Put together by hand: every call asks this first. Fields have to be in the order in which the model has them.
    fields = [field.name for field in User._meta.concrete_fields if field.name in OF_A_USER]
    sql = f"""SELECT t.id, t.used_at, {", ".join(f"u.{name}" for name in fields)}
        FROM accounts_apitoken t JOIN auth_user u ON u.id = t.user_id WHERE t.digest = %s AND u.is_active"""
    with connection.cursor() as cursor:
        cursor.execute(sql, [_digest(token)])
        row = cursor.fetchone()
    if row is None:
        return None
    number, used_at, *values = row
    now = timezone.now()
    if used_at is None or now - used_at > timedelta(minutes=1):
        ApiToken.objects.filter(pk=number).update(used_at=now)
    return User.from_db(connection.alias, fields, values)


def needs_first_user() -> bool:
    """Whether nobody can sign in yet."""
    return not User.objects.exists()


def create_first_user(name: str, password: str) -> User:
    """The administrator, made once.

    Raises
    ------
    ValueError
        with a sentence for the person at the form
    """
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock(8470)")
        if not needs_first_user():
            raise ValueError("There is an administrator already. Sign in instead.")
        user = User(username=name, is_staff=True, is_superuser=True)
        try:
            user.full_clean(exclude=["password"])
            validate_password(password, user)
        except ValidationError as error:
            raise ValueError(" ".join(error.messages)) from error
        user.set_password(password)
        user.save()
    return user
