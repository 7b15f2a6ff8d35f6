"""Controllers and their profiles, as people set them up."""

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any
from urllib.parse import urlsplit

import orjson
from django.db import transaction

from lumtar.core.controllers import DEVICE, KINDS, SECRETS, Listing, SignIn, check_listing, check_sign_in
from lumtar.core.devicelist import check_port
from lumtar.core.reach import check_ranges
from lumtar.core.refusal import Refusal
from lumtar.domain.controllers.models import Controller, ControllerProfile
from lumtar.domain.logbook.named import keep_named
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.secrets import seal, unseal
from lumtar.domain.operation.services import announce
from lumtar.wire import json_paths

MOST_PROFILES, MOST_CONTROLLERS = 100, 200
FASTEST_S, SLOWEST_S = 15, 86_400
LONGEST_AUTHORITY = 100_000


def sign_in_of(profile: ControllerProfile) -> SignIn:
    """How one signs in."""
    return SignIn(**profile.sign_in)


def lists_of(profile: ControllerProfile) -> dict[str, Listing]:
    """Where its lists are found, in the order in which they are asked for."""
    return {name: listing(profile.lists[name]) for name in KINDS if name in profile.lists}


def listing(stored: Mapping[str, Any]) -> Listing:
    """A listing as it was stored or written."""
    return Listing(**{**stored, "up": tuple(stored.get("up", ()))})


def checked(sign_in: SignIn, lists: Mapping[str, Listing]) -> tuple[SignIn, dict[str, Listing]]:
    """A profile's parts as they are kept.

    Raises
    ------
    Refusal
    """
    if unknown := set(lists) - set(KINDS):
        raise Refusal(f"There is no list {sorted(unknown)[0]}; there are {', '.join(KINDS)}.", "lists")
    if DEVICE.name not in lists:
        raise Refusal("Say where the list of devices is found; all others are about them.", "lists")
    kept = {name: check_listing(KINDS[name], lists[name]) for name in KINDS if name in lists}
    for each in kept.values():
        json_paths.check_paths(each)
    given = check_sign_in(sign_in)
    if given.token:
        json_paths.compiled(given.token)
    return given, kept


@transaction.atomic
def keep_profile(row: ControllerProfile, sign_in: SignIn, lists: Mapping[str, Listing], by: str) -> ControllerProfile:
    """Keep a profile; controllers that have it are asked by it from now on.

    Raises
    ------
    Refusal
    """
    given, kept = checked(sign_in, lists)
    row.sign_in, row.lists = asdict(given), {name: asdict(each) for name, each in kept.items()}
    return keep_named(row, "controller profile", by, "controllers", most=MOST_PROFILES)


@transaction.atomic
def delete_profile(pk: int, by: str) -> None:
    """Delete a profile that no controller has.

    Raises
    ------
    Refusal, ControllerProfile.DoesNotExist
    """
    row = ControllerProfile.objects.get(pk=pk)
    if used := row.controllers.first():
        raise Refusal(f"The controller {used} has this profile; give it another one first.")
    row.delete()
    note_action(f"controller profile {row} deleted", by)
    announce("controllers")


def check_base(base: str) -> str:
    """A controller's address as it is kept.

    Raises
    ------
    Refusal
    """
    text = base.strip().rstrip("/")
    try:
        parts = urlsplit(text)
        is_fine = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port != 0
    except ValueError:
        is_fine = False
    if not is_fine or parts.username or parts.query or parts.fragment or len(text) > 200:
        raise Refusal("Its address is like https://192.0.2.7:8443, without a name or password in it.", "base")
    return text


def check_secret(way: str, secret: Mapping[str, str]) -> dict[str, str]:
    """What one signs in with, as far as the way needs it.

    Raises
    ------
    Refusal
    """
    needed = SECRETS[way]
    if missing := [name for name in needed if not secret.get(name)]:
        raise Refusal(f"To sign in it needs a {' and a '.join(missing)}.", missing[0])
    if any(len(secret[name]) > 4000 or not secret[name].isprintable() for name in needed):
        raise Refusal("What one signs in with has up to 4,000 letters, all of them printable.", needed[0])
    return {name: secret[name] for name in needed}


def secret_of(row: Controller) -> dict[str, str]:
    """What one signs in with. It must not leave the process.

    Raises
    ------
    SecretUnreadable
    """
    secret: dict[str, str] = orjson.loads(unseal(row.sealed)) if row.sealed else {}
    return secret


@transaction.atomic
def keep_controller(row: Controller, by: str, secret: Mapping[str, str] | None = None) -> Controller:
    """Keep a new controller or a changed one; it is asked at once.

    Parameters
    ----------
    secret : what one signs in with; None keeps what there is, as long as it is the same address that it goes to

    Raises
    ------
    Refusal
    """
    row.base = check_base(row.base)
    row.allowed = check_ranges(row.allowed)
    row.port = check_port(row.port)
    if not FASTEST_S <= row.every_s <= SLOWEST_S:
        raise Refusal(f"It can be asked every {FASTEST_S} seconds to every {SLOWEST_S // 3600} hours.", "every_s")
    if len(row.authority) > LONGEST_AUTHORITY:
        raise Refusal("These are more certificates than one controller is trusted by.", "authority")
    if row.adds and row.credential is None:
        raise Refusal("Choose the credential by which members are polled, so that they can be added.", "credential")
    way = row.profile.sign_in.get("way", "none")
    before = Controller.objects.filter(pk=row.pk).first() if row.pk else None
    if secret is None:
        if before is not None and before.base != row.base and SECRETS[way]:
            raise Refusal("It is at another address now: enter again what one signs in with.", SECRETS[way][0])
        secret = secret_of(before) if before else {}
    row.sealed = seal(orjson.dumps(check_secret(way, secret)).decode())
    row.asked_at = None
    return keep_named(row, "controller", by, "controllers", most=MOST_CONTROLLERS)


@transaction.atomic
def delete_controller(pk: int, by: str) -> None:
    """Ask a controller no more, and forget what it told; its members stay devices.

    Raises
    ------
    Controller.DoesNotExist
    """
    row = Controller.objects.get(pk=pk)
    row.delete()
    note_action(f"controller {row} deleted", by)
    announce("controllers")
