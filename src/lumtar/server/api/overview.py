"""How far Lumtar is set up."""

from django.contrib.auth.models import User
from django.http import HttpRequest

from lumtar.domain.accounts.models import ApiToken
from lumtar.domain.alarms.models import Rule
from lumtar.domain.controllers.models import Controller
from lumtar.domain.inventory.models import Credential, Device, Group, LabelRule, OwnField, Profile
from lumtar.domain.selfwatch.health import health
from lumtar.domain.sweeps.models import AdmissionRule, Finding, Sweep
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.schema import Schema

router = Router(tags=["system"])


class SetupOut(Schema):
    """How many there are of what is set up; what awaits review, the rules that call nobody, open problems of services."""

    devices: int
    retired: int
    credentials: int
    profiles: int
    label_rules: int
    groups: int
    own_fields: int
    sweeps: int
    admission_rules: int
    controllers: int
    awaiting: int
    people: int
    tokens: int
    without_plan: list[str]
    troubles: int


@router.get("/setup", needs=ENGINEER.everywhere, response=SetupOut)
def overview(request: HttpRequest) -> SetupOut:
    """What is set up, and what is missing."""
    devices = Device.objects
    return SetupOut(
        devices=devices.filter(retired_at=None).count(),
        retired=devices.exclude(retired_at=None).count(),
        credentials=Credential.objects.count(),
        profiles=Profile.objects.count(),
        label_rules=LabelRule.objects.count(),
        groups=Group.objects.count(),
        own_fields=OwnField.objects.count(),
        sweeps=Sweep.objects.count(),
        admission_rules=AdmissionRule.objects.count(),
        controllers=Controller.objects.count(),
        awaiting=Finding.objects.filter(decision="hold", device=None).count(),
        people=User.objects.filter(is_active=True).count(),
        tokens=ApiToken.objects.count(),
        without_plan=list(Rule.objects.filter(enabled=True, plan=None).order_by("pk").values_list("name", flat=True)),
        troubles=len(health().troubles),
    )
