"""Credentials: encrypted at rest, opened for polling only, never given back."""

from collections.abc import Iterable, Sequence
from typing import TypeVar

import orjson
from django.db import transaction
from django.db.models import Count, Q

from lumtar.core.advice import community_advice, user_advice
from lumtar.core.reach import PRIVATE, check_ranges
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Credential, Site
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark, put_in_order
from lumtar.domain.operation.secrets import SecretUnreadable, seal, unseal
from lumtar.wire import pdu, usm
from lumtar.wire import session as snmp

Kind = Credential.Kind
P = TypeVar("P", usm.AuthProtocol, usm.PrivProtocol)
COMMUNITY_FIELDS = ("community",)
USER_FIELDS = ("user", "auth", "auth_password", "priv", "priv_password")
NOT_SPOKEN = {
    "3des": "Triple DES was never made a standard for SNMP (its draft expired); Lumtar speaks DES and AES",
    "3desede": "Triple DES was never made a standard for SNMP (its draft expired); Lumtar speaks DES and AES",
    "tls": "SNMP over TLS (RFC 6353) is not spoken by Lumtar; use the user-based model",
    "dtls": "SNMP over DTLS (RFC 6353) is not spoken by Lumtar; use the user-based model",
}
"""Protocols that people ask for, and why there is no choosing them."""


def fields_of(kind: str) -> tuple[str, ...]:
    """What the secret part of a credential of this kind consists of."""
    return USER_FIELDS if kind == Kind.V3 else COMMUNITY_FIELDS


def seal_credential(kind: str, secret: dict[str, str]) -> str:
    """A credential's secret part, encrypted, after trying whether it makes sense.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    open_secret(kind, secret)
    return seal(orjson.dumps({name: secret.get(name, "") for name in fields_of(kind)}).decode())


def open_secret(kind: str, secret: dict[str, str]) -> snmp.Credential:
    """The credential as the wire layer wants it.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    if kind not in Kind.values:
        raise Refusal(f"The kind is {', '.join(Kind.values[:-1])} or {Kind.values[-1]}.")
    for name in secret:
        if name not in fields_of(kind):
            raise Refusal(f"A version {kind[1:]} credential has no {name.replace('_', ' ')}.")
        if len(secret[name]) > 255 or "\0" in secret[name]:
            raise Refusal(f"The {name.replace('_', ' ')} has at most 255 characters, none of them a zero.")
    if kind != Kind.V3:
        if not secret.get("community"):
            raise Refusal(f"A version {kind[1:]} credential needs a community.")
        return snmp.Community(secret["community"], pdu.VERSION_1 if kind == Kind.V1 else pdu.VERSION_2C)
    if not secret.get("user"):
        raise Refusal("A version 3 credential needs a user name.")
    auth, priv = secret.get("auth", ""), secret.get("priv", "")
    for word, protocol in (("authentication", auth), ("privacy", priv)):
        password = secret.get(f"{word[:4]}_password", "")
        if protocol and len(password) < 8:
            raise Refusal(f"The {word} password needs at least 8 characters (RFC 3414).")
        if password and not protocol:
            raise Refusal(f"There is a password for {word}, but no protocol; choose one, or leave both out.")
    if priv and not auth:
        raise Refusal("Privacy without authentication is not allowed (RFC 3411).")
    return usm.User(
        secret["user"],
        _protocol(usm.AuthProtocol, auth),
        secret.get("auth_password", ""),
        _protocol(usm.PrivProtocol, priv),
        secret.get("priv_password", ""),
    )


def _protocol(protocols: type[P], name: str) -> P | None:
    if not name:
        return None
    try:
        return protocols(name)
    except ValueError as error:
        offered = ", ".join(protocols)
        why = NOT_SPOKEN.get(name.lower().replace("-", ""), f"{name!r} is not known here")
        raise Refusal(f"{why}; there are {offered}.") from error


def opened(credential: Credential) -> snmp.Credential:
    """A stored credential, decrypted.

    Raises
    ------
    SecretUnreadable, Refusal
    """
    return open_secret(credential.kind, revealed(credential))


def revealed(credential: Credential) -> dict[str, str]:
    """The secret part of a stored credential. It must not leave the process.

    Raises
    ------
    SecretUnreadable
    """
    secret: dict[str, str] = orjson.loads(unseal(credential.sealed))
    return secret


def advice(credential: Credential) -> list[str]:
    """What to mend about a credential, in sentences that do not give it away."""
    try:
        secret = revealed(credential)
    except SecretUnreadable as error:
        return [str(error)]
    if credential.kind != Kind.V3:
        return community_advice(secret["community"])
    passwords = {word: secret[f"{word[:4]}_password"] for word in ("authentication", "privacy") if secret[word[:4]]}
    return user_advice(secret["auth"], secret["priv"], passwords)


@transaction.atomic
def create(
    name: str,
    kind: str,
    secret: dict[str, str],
    sites: Sequence[str] = (),
    by: str = "",
    ranges: str = PRIVATE,
    *,
    is_for_writing: bool = False,
) -> Credential:
    """A new credential, tried after all others.

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    sealed = seal_credential(kind, secret)
    last = Credential.objects.order_by("-place").values_list("place", flat=True).first()
    made = Credential(kind=kind, sealed=sealed, place=0 if last is None else last + 1, ranges=check_ranges(ranges))
    made.is_for_writing = is_for_writing
    _name(made, name)
    mark(made, by)
    made.sites.set(_sites(sites))
    note_action(f"credential {made.name} created", by)
    return made


@transaction.atomic
def change(
    pk: int,
    edition: int,
    *,
    name: str,
    secret: dict[str, str],
    sites: Sequence[str],
    kind: str,
    by: str = "",
    ranges: str | None = None,
    is_for_writing: bool | None = None,
) -> Credential:
    """Change a credential for every device that uses it. Of ``secret`` only what is given is replaced.

    Raises
    ------
    Stale, Refusal, Credential.DoesNotExist
    """
    credential = claim(Credential, pk, edition)
    given = {name: value for name, value in secret.items() if value or name in ("auth", "priv")}
    if given or kind != credential.kind:
        before = revealed(credential) if kind == credential.kind else {}
        merged = before | given
        # A protocol that is taken away takes its password with it.
        for word in ("auth", "priv"):
            if kind == Kind.V3 and not merged.get(word):
                merged[f"{word}_password"] = ""
        credential.kind, credential.sealed = kind, seal_credential(kind, merged)
    renamed = f", was {credential.name}" if name.strip() != credential.name else ""
    _name(credential, name)
    if ranges is not None:
        credential.ranges = check_ranges(ranges)
    if is_for_writing is not None:
        if is_for_writing and credential.devices.exists():
            raise Refusal("Devices are read with it; make another credential for writing.", "is_for_writing")
        credential.is_for_writing = is_for_writing
    mark(credential, by)
    credential.sites.set(_sites(sites))
    what = "; its secret was replaced" if any(key.endswith("password") or key == "community" for key in given) else ""
    note_action(f"credential {credential.name}{renamed} changed{what}", by)
    return credential


@transaction.atomic
def remove(pk: int, by: str = "") -> None:
    """Delete a credential that no device uses.

    Raises
    ------
    Refusal
        if devices use it, with their names
    Credential.DoesNotExist
    """
    credential = Credential.objects.select_for_update().get(pk=pk)
    users = list(credential.devices.order_by("name").values_list("name", flat=True)[:4])
    if users:
        names = ", ".join(users[:3]) + (" and others" if len(users) > 3 else "")
        raise Refusal(f"It is used by {names}; give them another one first.")
    credential.delete()
    note_action(f"credential {credential.name} deleted", by)


@transaction.atomic
def reorder(numbers: Iterable[int], by: str = "") -> None:
    """Set the order of trying; what is not named keeps its place behind.

    Raises
    ------
    Refusal
        if a number is none of a credential
    """
    ordered = put_in_order(Credential, numbers)
    note_action("order of trying credentials changed: " + ", ".join(each.name for each in ordered), by)


def with_counts() -> list[tuple[Credential, int]]:
    """All credentials in the order of trying, each with how many devices use it."""
    credentials = Credential.objects.annotate(used=Count("devices")).order_by("place", "pk").prefetch_related("sites")
    return [(credential, credential.used) for credential in credentials]


def in_order(site: str = "", *, for_writing: bool = False) -> list[Credential]:
    """The credentials to try at a site, for reading or for writing: its own first, then those for everywhere."""
    everywhere, fitting = Q(sites=None), Credential.objects.filter(is_for_writing=for_writing)
    credentials = fitting.filter(everywhere | Q(sites__name=site) if site or for_writing else everywhere).distinct()
    own = set(Credential.objects.filter(sites__name=site).values_list("pk", flat=True)) if site else set()
    return sorted(credentials, key=lambda credential: (credential.pk not in own, credential.place, credential.pk))


def _sites(names: Sequence[str]) -> list[Site]:
    sites = list(Site.objects.filter(name__in=names))
    if missing := sorted(set(names) - {site.name for site in sites}):
        raise Refusal(f"There is no site {missing[0]!r}.")
    return sites


def _name(credential: Credential, name: str) -> None:
    credential.name = name.strip()
    if not 1 <= len(credential.name) <= 80:
        raise Refusal("A name has 1 to 80 characters.")
