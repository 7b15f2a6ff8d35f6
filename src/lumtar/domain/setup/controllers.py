"""The sections of a set-up that are about controllers: profiles of their makes, and how each is asked."""

from lumtar.core.controllers import SECRETS, SignIn
from lumtar.core.reach import PRIVATE
from lumtar.core.refusal import Refusal
from lumtar.domain.controllers import services
from lumtar.domain.controllers.models import Controller, ControllerProfile
from lumtar.domain.inventory.models import Credential
from lumtar.domain.setup.section import Plain, Section, number_of


class ControllerProfiles(Section):
    """How makes of controllers are asked."""

    key = "controller_profiles"
    blank: Plain = {"sign_in": {}, "lists": {}}

    def read(self) -> list[Plain]:
        """All of them."""
        rows = ControllerProfile.objects.order_by("name")
        return [{name: getattr(row, name) for name in ("name", *self.blank)} for row in rows]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a profile."""
        row = ControllerProfile(name=entry["name"]) if is_new else ControllerProfile.objects.get(name=entry["name"])
        try:
            sign_in = SignIn(**entry["sign_in"])
            lists = {name: services.listing(each) for name, each in entry["lists"].items()}
        except (TypeError, AttributeError) as error:
            raise Refusal(f"Its lists or its way to sign in have a field that is not known: {error}.") from error
        services.keep_profile(row, sign_in, lists, by)


class Controllers(Section):
    """Controllers, without what one signs in with: that never leaves Lumtar."""

    key = "controllers"
    blank: Plain = {
        "base": "", "profile": "", "authority": "", "credential": "", "allowed": PRIVATE, "adds": False, "port": 161, "every_s": 60,
        "enabled": True,
    }  # fmt: skip

    def read(self) -> list[Plain]:
        """All of them."""
        rows = Controller.objects.select_related("profile", "credential").order_by("name")
        named = ("profile", "credential")
        return [
            {name: str(getattr(row, name) or "") if name in named else getattr(row, name) for name in ("name", *self.blank)}
            for row in rows
        ]  # fmt: skip

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a controller; one that wants a secret has to be there already."""
        profile = ControllerProfile.objects.filter(name=entry["profile"]).first()
        if profile is None:
            raise Refusal(f"There is no profile of controllers {entry['profile']!r} here.")
        if is_new and SECRETS[services.sign_in_of(profile).way]:
            raise Refusal("It is not here yet, and a set-up holds no secrets: make it first.")
        row = Controller() if is_new else Controller.objects.get(name=entry["name"])
        for name, value in entry.items():
            if name not in ("profile", "credential"):
                setattr(row, name, value)
        row.profile = profile
        row.credential_id = number_of(Credential, entry["credential"], "credential")
        services.keep_controller(row, by)
