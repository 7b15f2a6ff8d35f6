"""The demonstration's controller, as somebody would set it up."""

from pathlib import Path

from lab.controller import ADDRESS, PASSWORD, PORT, PROFILE, USER, kept_certificate
from lab.people import BY
from lab.scenario import PORT as SNMP
from lumtar.core.controllers import SignIn
from lumtar.domain.controllers import services
from lumtar.domain.controllers.models import Controller, ControllerProfile
from lumtar.domain.inventory.models import Credential


def set_up(var: Path) -> Controller:
    """Keep its profile and how it is asked."""
    lists = {name: services.listing(listing) for name, listing in PROFILE["lists"].items()}
    profile = services.keep_profile(
        ControllerProfile(name="County overlay"), SignIn(**PROFILE["sign_in"]), lists, BY
    )  # fmt: skip
    controller = Controller(
        name="Overlay manager", base=f"https://{ADDRESS}:{PORT}", profile=profile, allowed="127.0.0.0/8", port=SNMP, every_s=30,
        authority=kept_certificate(var)[0].decode(), credential=Credential.objects.get(name="County read"),
    )  # fmt: skip
    return services.keep_controller(controller, BY, {"user": USER, "password": PASSWORD})
