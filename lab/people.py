"""The people of the demonstration: what is watched, who is called, and what they did about two weeks of alarms."""

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

from lab.answering import ENTERPRISE, NETWORK_ELEMENT, SERVER_ELEMENT
from lab.server_names import FILMS, NAME_ELEMENT
from lumtar.core.calling import Substitute
from lumtar.core.flows.declared import Part
from lumtar.core.measures.controllers import CONTROLLER, CONTROLLER_ITEM
from lumtar.core.measures.links import BRIDGE, LINK
from lumtar.core.measures.paths import PATH
from lumtar.core.measures.traffic import FLOW_PORT, STRANGER, TRAFFIC
from lumtar.core.rules.ready import READY
from lumtar.domain.alarms import maintenance
from lumtar.domain.alarms import rules as services
from lumtar.domain.alarms.maintenance import MaintenanceSpec
from lumtar.domain.alarms.models import AlarmAction, AlarmChange, Consequence, Message, Notification, Rule
from lumtar.domain.calling import contacts, plans, teams
from lumtar.domain.calling.contacts import AddressSpec, ContactSpec
from lumtar.domain.calling.models import Address, CallPlan, Team
from lumtar.domain.calling.plans import PlanSpec, StepSpec
from lumtar.domain.calling.teams import TeamSpec
from lumtar.domain.flows import applications, declared_fields, prefix_tables, strangers, watched
from lumtar.domain.flows.models import AddressList, DeclaredField, OwnApplication
from lumtar.domain.inventory.models import Device, Site

BY = "demonstration"
ZONE = "Europe/London"
NOISY, UNUSUAL = "Every peak of the WAN links", "Unusual load of the WAN links"
ANSWERED = timedelta(days=14)
CATALOGUE = "library catalogue"


def hang(devices: Iterable[Device]) -> None:
    """Say by what each device is reached from the depot, where the collector is."""
    called = {device.name: device for device in devices}
    for name, device in called.items():
        site, kind = name.split("-")[:2]
        above = {
            "acc": [f"{site}-core-1", f"{site}-core-2"] if site in ("cen", "dep") else [f"{site}-wan-1"],
            "core": [f"{site}-wan-1"] if site != "dep" else [],
            "wan": ["dep-wan-1"] if site != "dep" else ["dep-core-1"],
        }.get(kind, [f"{site}-core-1"])
        device.hangs_on.set([called[each] for each in above if each in called and each != name])


COUNTY = "10.0.0.0/8\n172.16.0.0/12\n192.168.0.0/16"
KNOWN = "10.0.0.0/8  # every site has a /16 of its own"


SYSTEMS = """prefix,number,name
198.51.100.0/28,64496,Wellmere Hosting
198.51.100.16/28,64497,Brightwater Video
198.51.100.32/28,64498,Larchfield Cloud
203.0.113.0/24,64499,Nobody in particular
2001:db8:f00d::/48,64497,Brightwater Video
"""
PLACES = """prefix,place,country,latitude,longitude
198.51.100.0/28,Port Ambrel,Northland,57.1,-2.1
198.51.100.16/29,Vessen,Northland,54.9,1.2
198.51.100.24/29,Old Harrow,Northland,52.4,-1.9
198.51.100.32/28,Castelmar,Southmark,46.2,4.8
203.0.113.0/24,Teravo,Eastria,48.3,17.4
2001:db8:f00d::/48,Vessen,Northland,54.9,1.2
"""
"""Made up, as everything else."""


def definitions() -> None:
    """What the county's own traffic is called, and what the fields tell that its exporters have of their own."""
    applications.keep(OwnApplication(name=CATALOGUE, ports="8080", addresses="10.0.10.200/30"), BY)
    applications.keep(OwnApplication(name="films", server_names=FILMS), BY)
    told = {NETWORK_ELEMENT: Part.NETWORK, SERVER_ELEMENT: Part.SERVER, NAME_ELEMENT: Part.SERVER_NAME}
    for element, part in told.items():
        declared_fields.keep(DeclaredField(enterprise=ENTERPRISE, element=element, part=part), BY)


def rules() -> None:
    """What is watched beside what every installation begins with: one rule that is well made, and one that is not."""
    services.create(
        {
            "name": NOISY, "measure": "load", "scope": "role is wan",
            "levels": [{"severity": 2, "limit": 60, "clear": 58}],
        },
        BY,
    )  # fmt: skip
    services.create(
        {
            "name": UNUSUAL, "measure": "load", "scope": "role is wan", "statistic": "mean", "window_s": 900,
            "reference": "learned", "direction": "outside", "times": 3, "of": 3,
            "levels": [{"severity": 2, "limit": 8, "clear": 5, "low": -8, "low_clear": -5}],
            "instructions": "Compare with the port's last week, then ask what was moved to another site.",
        },
        BY,
    )  # fmt: skip


def link_rules() -> None:
    """Rules about links, bridges and traffic, from now on: what the history has of them was no news."""
    services.create(
        {
            "name": "Links that are down", "measure": "down", "scope": "role is (uplink, wan, trunk)", "times": 2, "of": 2,
            "levels": [{"severity": 4, "limit": 50, "clear": 50}],
        },
        BY,
    )  # fmt: skip
    for each in READY:
        if each.rule().subject in (LINK, BRIDGE, PATH, TRAFFIC, FLOW_PORT, STRANGER, CONTROLLER, CONTROLLER_ITEM):
            levels = [{"severity": int(one.severity), "limit": one.limit, "clear": one.clear} for one in each.levels]
            services.create(
                {
                    "name": each.name, "measure": each.measure,
                    "scope": "role is wan" if each.rule().subject == FLOW_PORT else each.scope, "times": each.hold.times,
                    "of": each.hold.of, "hold_s": each.hold.seconds, "levels": levels, "direction": each.direction,
                    "statistic": each.statistic, "window_s": each.window_s,
                },
                BY,
            )  # fmt: skip
    prefix_tables.load("systems", SYSTEMS, BY)
    prefix_tables.load("places", PLACES, BY)
    strangers.keep_list(AddressList(name="County addresses", within=COUNTY, listed=KNOWN), BY)
    own = OwnApplication.objects.get(name=CATALOGUE)
    watched.watch("Library catalogue", {"application": str(own.number)}, BY)
    Rule.objects.filter(name__in=("Links that are down", "Strangers")).update(
        plan=CallPlan.objects.get(name="Day and night")
    )


def _send_to_desk(now: datetime) -> None:
    """What the noisy rule sent: one message a change, and nobody did anything about any of them."""
    address = Address.objects.select_related("contact").get(contact__name="Network desk", channel="mail")
    for change in AlarmChange.objects.filter(at__gte=now - ANSWERED, severity__gt=0, alarm__rule__name=NOISY).order_by(
        "at"
    ):
        _sent(change, address, step=1)


def _sent(change: AlarmChange, address: Address, step: int) -> None:
    at = change.at + timedelta(seconds=2)
    message = Message.objects.create(
        address=address, contact=address.contact.name, channel="mail", target=address.shown, state="sent", attempts=1,
        created_at=change.at, next_at=at, sent_at=at, answer="accepted by the mail server",
    )  # fmt: skip
    told = Notification.to(address, change.pk, change.at, step)
    told.message = message
    told.save()


def _explain(now: datetime) -> list[int]:
    """Put what was behind a silent router under it, as it would have been live; which changes that explains.

    History is loaded days at a time, when all of it is over already.
    """
    raised = (
        AlarmChange.objects.filter(alarm__type="unreachable", severity__gt=0).select_related("alarm").order_by("at")
    )
    by_device = {(change.alarm.device_id, change.at): change for change in raised}
    explained = []
    for change in raised:
        device = change.alarm.device
        ways = list(device.hangs_on.values_list("pk", flat=True)) if device else []
        causes = [by_device[way, change.at] for way in ways if (way, change.at) in by_device]
        if not ways or len(causes) < len(ways):
            continue
        over = AlarmChange.objects.filter(alarm=causes[0].alarm, at__gt=change.at, severity=0).order_by("at").first()
        Consequence.objects.create(
            alarm=change.alarm, cause=causes[0].alarm, at=change.at, ended_at=over.at if over else now,
            reason=f"It is reached by way of {causes[0].alarm.label}, which does not answer",
        )  # fmt: skip
        explained.append(change.pk)
    return explained


def answers(now: datetime) -> None:
    """What was sent about the last two weeks of alarms, and what people did about them; and what is planned."""
    plan = CallPlan.objects.get(name="Day and night")
    Rule.objects.filter(name__in=["Utilisation", "Reachability", UNUSUAL, "Lumtar itself"]).update(plan=plan)
    Rule.objects.filter(name=NOISY).update(plan=CallPlan.objects.get(name="Office hours"))
    changes = AlarmChange.objects.filter(
        at__gte=now - ANSWERED, severity__gte=4, alarm__rule__name__in=["Utilisation", "Reachability"]
    )
    team = Team.objects.get(name="On duty")
    explained = _explain(now)
    for change in changes.exclude(pk__in=explained).select_related("alarm").order_by("at"):
        (duty,) = teams.called(team, change.at)
        address = Address.objects.select_related("contact").filter(contact=duty, channel="mail").get()
        _sent(change, address, step=1)
        answered = change.at + timedelta(minutes=3 + change.pk % 9)
        if answered < now and change.pk % 4:
            AlarmAction.objects.create(
                alarm=change.alarm, at=answered, by=address.contact.name, kind="acknowledge", severity=change.severity,
                text=("", "On my way.", "The provider is told.", "Known: the maps are copied.")[change.pk % 4],
            )  # fmt: skip
    _send_to_desk(now)
    depot = Site.objects.get(name="Depot")
    sunday = (now - timedelta(days=(now.weekday() + 1) % 7)).replace(hour=5, minute=0, second=0, microsecond=0)
    maintenance.save(
        MaintenanceSpec(
            "Catalogue servers are moved", sunday, sunday + timedelta(hours=2), "Restarts are expected.", "FREQ=WEEKLY", ZONE,
            sites=[depot.pk],
        ),
        BY,
    )  # fmt: skip
    branch = Site.objects.exclude(pk=depot.pk).order_by("name").first()
    assert branch is not None
    soon = now.replace(hour=6, minute=30, second=0, microsecond=0) + timedelta(days=2)
    maintenance.save(
        MaintenanceSpec(
            f"New switch for {branch.name}", soon, soon + timedelta(hours=3), "The library opens at ten.", zone=ZONE,
            sites=[branch.pk],
        ),
        BY,
    )  # fmt: skip


def fill(sinks: int = 8474) -> CallPlan:
    """Make the contacts, teams and call plans; the plan for what must not wait comes back.

    Parameters
    ----------
    sinks : the port on which the stand-in receivers of messages listen
    """

    def contact(name: str, *addresses: tuple[str, dict[str, str]], quiet: str = "") -> int:
        specs = [AddressSpec(channel, target) for channel, target in addresses]
        return contacts.save(ContactSpec(name, ZONE, quiet, addresses=specs), BY).pk

    def mail(name: str) -> tuple[str, dict[str, str]]:
        return "mail", {"address": f"{name}@oskelund.example"}

    def hook(path: str) -> tuple[str, dict[str, str]]:
        return "service", {"url": f"json://127.0.0.1:{sinks}/{path}"}

    anna = contact("Anna Brandt", mail("anna"), hook("sms/anna"))
    bert = contact("Bert Holm", mail("bert"), hook("sms/bert"))
    cleo = contact("Cleo Marsh", mail("cleo"), hook("sms/cleo"), quiet="22:00-06:30")
    desk = contact("Network desk", mail("desk"), hook("chat/network"))
    lead = contact("Dora Lindt, head of networks", mail("dora"), quiet="21:00-07:00, Sat-Sun")
    archive = contact(
        "Alarm archive",
        ("syslog", {"target": f"udp://127.0.0.1:{sinks + 1}"}),
        ("trap", {"target": f"127.0.0.1:{sinks + 2}", "community": "archive"}),
    )
    monday = datetime(2026, 1, 5, 8, 0, tzinfo=UTC)
    on_duty = teams.save(
        TeamSpec(
            "On duty",
            [anna, bert, cleo],
            ZONE,
            turn_days=7,
            turn_start=monday,
            substitutes=[
                Substitute(anna, cleo, datetime(2026, 12, 21, 8, tzinfo=UTC), datetime(2026, 12, 28, 8, tzinfo=UTC))
            ],
        ),
        BY,
    ).pk
    office = teams.save(TeamSpec("Network office", [desk], ZONE, "Mon-Fri 08:00-18:00"), BY).pk
    plans.save(
        PlanSpec(
            "Office hours",
            [StepSpec(contacts=[archive]), StepSpec(teams=[office])],
            on_clear=False,
        ),
        BY,
    )
    return plans.save(
        PlanSpec(
            "Day and night",
            [
                StepSpec(contacts=[desk, archive]),
                StepSpec(teams=[on_duty], channels=["mail", "service"], from_severity=4, times=3, repeat_s=900),
                StepSpec(after_s=2700, contacts=[lead], from_severity=5),
            ],
            raise_subject="{{ alarm.label }}: {{ alarm.text }} [{{ alarm.severity }}]",
        ),
        BY,
    )
