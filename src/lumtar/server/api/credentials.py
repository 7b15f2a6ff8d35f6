"""Credentials: what can be said of them without giving them away, and how they are changed."""

from datetime import datetime

from django.http import HttpRequest
from ninja import Status

from lumtar.core.reach import PRIVATE
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Credential
from lumtar.domain.operation.secrets import SecretUnreadable
from lumtar.server.api.access import ADMINISTRATOR, ENGINEER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.wire import usm

router = Router(tags=["credentials"])


class CredentialOut(Schema):
    """A credential without its secrets. Without sites it is tried everywhere; ``edition`` goes back with a change."""

    id: int
    name: str
    kind: str
    user: str
    auth: str
    priv: str
    sites: list[str]
    ranges: str
    is_for_writing: bool
    devices: int
    edition: int
    changed_at: datetime
    changed_by: str
    advice: list[str]


class Protocols(Schema):
    """What version 3 can be spoken with."""

    auth: list[str]
    priv: list[str]


class CredentialsOut(Schema):
    """All credentials in the order of trying."""

    rows: list[CredentialOut]
    protocols: Protocols


class CredentialIn(Schema):
    """A credential. ``secret`` holds community, or user, auth, auth_password, priv and priv_password.

    ``ranges`` are the addresses that it may be sent to, separated by commas.
    """

    name: str
    kind: str = "v2c"
    secret: dict[str, str] = {}
    sites: list[str] = []
    ranges: str = PRIVATE
    is_for_writing: bool = False


class CredentialChange(CredentialIn):
    """A change: of ``secret`` only what is given is replaced."""

    edition: int


class Order(Schema):
    """Numbers in their order."""

    ids: list[int]


def _out(credential: Credential, devices: int) -> CredentialOut:
    try:
        secret = credentials.revealed(credential)
    except SecretUnreadable:
        secret = {}
    return CredentialOut(
        id=credential.pk,
        name=credential.name,
        kind=credential.kind,
        user=secret.get("user", ""),
        auth=secret.get("auth", ""),
        priv=secret.get("priv", ""),
        sites=sorted(site.name for site in credential.sites.all()),
        ranges=credential.ranges,
        is_for_writing=credential.is_for_writing,
        devices=devices,
        edition=credential.edition,
        changed_at=credential.changed_at,
        changed_by=credential.changed_by,
        advice=credentials.advice(credential),
    )


@router.get("/credentials", needs=ENGINEER.everywhere, response=CredentialsOut)
def list_credentials(request: HttpRequest) -> CredentialsOut:
    """All of them, without their secrets."""
    return CredentialsOut(
        rows=[_out(credential, devices) for credential, devices in credentials.with_counts()],
        protocols=Protocols(auth=list(usm.AuthProtocol), priv=list(usm.PrivProtocol)),
    )


@router.post("/credentials", needs=ADMINISTRATOR.everywhere, response={201: CredentialOut})
def make_credential(request: HttpRequest, body: CredentialIn) -> Status[CredentialOut]:
    """A new one, tried after all others."""
    with refusing():
        made = credentials.create(
            body.name, body.kind, body.secret, body.sites, request.user.get_username(), body.ranges,
            is_for_writing=body.is_for_writing,
        )  # fmt: skip
    return Status(201, _out(made, 0))


@router.put("/credentials/order", needs=ADMINISTRATOR.everywhere, response=CredentialsOut)
def order_credentials(request: HttpRequest, body: Order) -> CredentialsOut:
    """The order of trying."""
    with refusing(409):
        credentials.reorder(body.ids, request.user.get_username())
    return list_credentials(request)


@router.put("/credentials/{credential}", needs=ADMINISTRATOR.everywhere, response=CredentialOut)
def change_credential(request: HttpRequest, credential: int, body: CredentialChange) -> CredentialOut:
    """Change a credential, for all devices that use it."""
    with refusing():
        changed = credentials.change(
            credential,
            body.edition,
            name=body.name,
            kind=body.kind,
            secret=body.secret,
            sites=body.sites,
            ranges=body.ranges,
            is_for_writing=body.is_for_writing,
            by=request.user.get_username(),
        )
    return _out(changed, changed.devices.count())


@router.delete("/credentials/{credential}", needs=ADMINISTRATOR.everywhere, response={204: None})
def delete_credential(request: HttpRequest, credential: int) -> Status[None]:
    """Delete a credential that no device uses."""
    with refusing(409):
        credentials.remove(credential, request.user.get_username())
    return Status(204, None)
