"""Profiles of controllers: how each make is asked, and what a profile can say."""

from dataclasses import asdict

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from ninja import Status
from pydantic import Field

from lumtar.core.controllers import KINDS, SECRETS, WAYS, Listing, SignIn
from lumtar.domain.controllers import services
from lumtar.domain.controllers.models import ControllerProfile
from lumtar.server.api.access import ADMINISTRATOR, VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["controllers"])


class ListFieldOut(Schema):
    """A field of a list's rows."""

    name: str
    words: str
    is_needed: bool


class ListKindOut(Schema):
    """A kind of list that a controller can be asked for."""

    name: str
    words: str
    has_state: bool
    fields: list[ListFieldOut]


class WayOut(Schema):
    """A way to sign in, and what it needs of whoever sets a controller up."""

    name: str
    words: str
    secret: list[str]


class ControllerKindsOut(Schema):
    """What a profile can say."""

    lists: list[ListKindOut]
    ways: list[WayOut]


@router.get("/controller-kinds", needs=VIEWER.everywhere, response=ControllerKindsOut)
def controller_kinds(request: HttpRequest) -> ControllerKindsOut:
    """Kinds of lists, and ways to sign in."""
    lists = [
        ListKindOut(
            name=kind.name, words=kind.words, has_state=kind.has_state,
            fields=[ListFieldOut(name="id", words="identifier", is_needed=False), *(ListFieldOut(**asdict(each)) for each in kind.fields)],
        )
        for kind in KINDS.values()
    ]  # fmt: skip
    return ControllerKindsOut(
        lists=lists,
        ways=[WayOut(name=name, words=words, secret=list(SECRETS[name])) for name, words in WAYS.items()],
    )


class ListingIO(Schema):
    """Where a list is found: the path that is asked for, a JSONPath (RFC 9535) to its rows, and one to each field within a row."""

    path: str = Field(max_length=300)
    rows: str = Field(max_length=300)
    fields: dict[str, str]
    next_page: str = Field("", max_length=300, description="JSONPath to the address of the next page.")
    up: list[str] = Field([], description="Words of a state that is well; without any those that are usual.")


class SignInIO(Schema):
    """How one signs in; ``token`` is a JSONPath in what signing in answers."""

    way: str = "none"
    header: str = ""
    path: str = ""
    user_field: str = "username"
    password_field: str = "password"
    token: str = ""


class ControllerProfileIn(Schema):
    """How one make of controller is asked."""

    name: str = Field(max_length=120)
    sign_in: SignInIO = SignInIO()
    lists: dict[str, ListingIO]


class ControllerProfileOut(ControllerProfileIn):
    """A profile of controllers, and how many have it."""

    id: int
    controllers: int


def _profile(row: ControllerProfile) -> ControllerProfileOut:
    return ControllerProfileOut(
        id=row.pk, name=row.name, sign_in=SignInIO(**row.sign_in), controllers=len(row.controllers.all()),
        lists={name: ListingIO(**listing) for name, listing in row.lists.items()},
    )  # fmt: skip


def parts(body: ControllerProfileIn) -> tuple[SignIn, dict[str, Listing]]:
    """A profile's way to sign in and its listings, as they were written."""
    return SignIn(**body.sign_in.model_dump()), {
        name: services.listing(listing.model_dump()) for name, listing in body.lists.items()
    }


@router.get("/controller-profiles", needs=VIEWER.everywhere, response=list[ControllerProfileOut])
def list_controller_profiles(request: HttpRequest) -> list[ControllerProfileOut]:
    """All profiles of controllers."""
    return [_profile(row) for row in ControllerProfile.objects.prefetch_related("controllers").order_by("name")]


@router.post("/controller-profiles", needs=ADMINISTRATOR.everywhere, response={201: ControllerProfileOut})
def make_controller_profile(request: HttpRequest, body: ControllerProfileIn) -> Status[ControllerProfileOut]:
    """A new profile."""
    return Status(201, _kept_profile(request, ControllerProfile(), body))


@router.put("/controller-profiles/{int:profile}", needs=ADMINISTRATOR.everywhere, response=ControllerProfileOut)
def change_controller_profile(request: HttpRequest, profile: int, body: ControllerProfileIn) -> ControllerProfileOut:
    """Change a profile; its controllers are asked by it from now on."""
    return _kept_profile(request, get_object_or_404(ControllerProfile, pk=profile), body)


def _kept_profile(request: HttpRequest, row: ControllerProfile, body: ControllerProfileIn) -> ControllerProfileOut:
    row.name = body.name
    with refusing():
        return _profile(services.keep_profile(row, *parts(body), request.user.get_username()))


@router.delete("/controller-profiles/{int:profile}", needs=ADMINISTRATOR.everywhere, response={204: None})
def delete_controller_profile(request: HttpRequest, profile: int) -> Status[None]:
    """Delete a profile that no controller has."""
    get_object_or_404(ControllerProfile, pk=profile)
    with refusing(409):
        services.delete_profile(profile, request.user.get_username())
    return Status(204, None)
