"""The demonstration's inventory: who may log in, sites, credentials, profiles, devices, groups and a sweep."""

from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from django.contrib.auth.models import User

from lab import people, wireless
from lab import scenario as plan
from lab.device import engine_id
from lab.scenario import Box, Scenario
from lumtar.core.labels import USUAL, fill
from lumtar.core.own_objects import check_object
from lumtar.domain.inventory import groups
from lumtar.domain.inventory.credentials import seal_credential
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.labelling import label_ports
from lumtar.domain.inventory.models import Component, Credential, Device, DeviceState, Interface, Profile, Site
from lumtar.domain.inventory.profiles import ProfileSpec, reads_of, save
from lumtar.domain.sweeps import admission
from lumtar.domain.sweeps import services as sweeps
from lumtar.domain.sweeps.admission import AdmissionRuleSpec
from lumtar.domain.sweeps.services import SweepSpec

DAY_S = 86400

KINDS: dict[str, tuple[str, list[dict[str, Any]]]] = {
    "core": ("switch", []),
    "acc": ("switch", []),
    "wan": ("router", []),
    "fw": (
        "firewall",
        [
            {"oid": "1.0", "name": "Sessions", "part": "sessions"},
            {"oid": "1.0", "name": "Sessions of the limit", "part": "session share", "limit": "3.0"},
            {"oid": "2.0", "name": "Sessions begun", "part": "session rate"},
            {"oid": "4.0", "name": "Threats found", "part": "threats"},
            {"oid": "5.0", "name": "Packets dropped", "part": "drops"},
            {"oid": "6.0", "name": "Pair", "part": "pair", "states": "active 1; standby 2; not ready 3, 4"},
            {"oid": "7.1.3", "name": "Tunnel", "part": "tunnel", "names": "7.1.2", "states": "up 1; down 2"},
            {"oid": "7.1.4", "name": "Age", "part": "tunnel age", "names": "7.1.2"},
            {"oid": "7.1.5", "name": "Keys", "part": "tunnel rekeys", "names": "7.1.2"},
            {"oid": "7.1.6", "name": "In", "part": "tunnel in", "names": "7.1.2"},
            {"oid": "7.1.7", "name": "Out", "part": "tunnel out", "names": "7.1.2"},
        ],
    ),
    "wlc": ("wireless controller", [{"oid": "1", "name": "Clients of access point"}]),
    "fs": ("storage switch", []),
    "ups": (
        "power supply",
        [
            {"oid": "1.0", "name": "Battery charge", "unit": "%"},
            {"oid": "2.0", "name": "Time on battery", "unit": "min", "text": True},
        ],
    ),
}
"""Kind of each family, and the objects that its boxes show beneath the maker's own number."""


@dataclass(frozen=True, slots=True)
class Loaded:
    """A box with its rows in the database."""

    box: Box
    device: Device
    interfaces: list[Interface]
    components: list[Component]


def _credentials() -> tuple[Credential, Credential]:
    """How the county's devices are read, of each version; and those that they may be changed with."""

    def user(words: tuple[str, str, str]) -> dict[str, str]:
        name, auth, priv = words
        return {"user": name, "auth": "sha1", "auth_password": auth, "priv": "aes128", "priv_password": priv}

    made = [
        Credential.objects.create(
            name=name, kind=kind, sealed=seal_credential(kind, secret), place=place, is_for_writing=place > 1
        )
        for place, (name, kind, secret) in enumerate(
            (
                ("County read", "v2c", {"community": plan.COMMUNITY}),
                ("County version 3", "v3", user(plan.V3_USER)),
                ("County write", "v2c", {"community": plan.WRITE_COMMUNITY}),
                ("County write version 3", "v3", user(plan.V3_WRITER)),
            )
        )
    ]
    return made[0], made[1]


def make_inventory(built: Scenario, seen: datetime) -> list[Loaded]:
    """Everything that somebody set up, and what was discovered of it at ``seen``."""
    User.objects.create_user("demo", password="oskelund", is_staff=True, is_superuser=True)
    sites = {name: Site.objects.create(name=name) for name in plan.SITES}
    community, user = _credentials()
    profiles = _profiles()
    loaded = []
    for box in (box for box in built.boxes if not box.is_new):
        maker, model, number = plan.MODELS[box.family]
        device = Device.objects.create(
            name=box.name,
            address=box.address,
            port=plan.PORT,
            site=sites[box.site],
            credential=user if box.version3 else community,
            added_at=seen,
            sys_name=box.name,
            sys_descr=f"{maker} {model}, software 4.2.1",
            sys_object_id=f"{plan.ENTERPRISE}.1.{number}",
            location=f"{box.site} library",
            contact="networks@oskelund.example",
            maker=maker,
            model=model,
            serial=f"{box.seed:08X}",
            software="4.2.1",
            timeout_s=1.0,
            profile=profiles[box.family],
            profile_by=f"sysObjectID {plan.ENTERPRISE}.1.{number} lies under {plan.ENTERPRISE}.1.{number}",
            reads=reads_of(profiles[box.family]),
            engine_id=engine_id(box.name).hex(),
        )
        DeviceState.objects.create(device=device, since=seen)
        template = profiles[box.family].label_template or USUAL
        interfaces = Interface.objects.bulk_create(
            Interface(
                device=device,
                if_index=port.index,
                label=fill(template, {**plan.said_of(box.family, port), "index": str(port.index)}),
                **plan.said_of(box.family, port),
                if_type=port.kind,
                first_seen=seen,
                in_override_bps=port.sold_bps[0] if port.sold_bps else None,
                out_override_bps=port.sold_bps[1] if port.sold_bps else None,
            )
            for port in box.ports
        )
        parts = [
            Component(device=device, kind="processor", index=str(n), name=f"Processor {n}", unit="%")
            for n in range(1, box.processors + 1)
        ]
        parts += [
            Component(
                device=device,
                kind="sensor",
                index=str(n + 2),
                name=title,
                unit="°C" if "emperature" in title else "",
                scale=0.1,
            )
            for n, (title, _, _) in enumerate(box.sensors)
        ]
        parts += [
            Component(device=device, kind=kind, index=index, name=name, unit="%")
            for kind, index, name in (("memory", "1", "Memory"), ("storage", "2", "Flash"))
        ]
        loaded.append(Loaded(box, device, interfaces, Component.objects.bulk_create(parts)))
    label_ports()
    _groups()
    _sweep()
    people.hang(Device.objects.all())
    return loaded


def _groups() -> None:
    """The links between the sites, and what else is looked at together."""
    branches = 'site is not ("Central", "Depot")'
    first, second = (
        groups.save(GroupSpec(f"{name} of branches", f'label is "{name}" and {branches}'), by="")
        for name in ("Transport A", "Transport B")
    )
    groups.save(GroupSpec("Branch transports", subgroups=[first.pk, second.pk]), by="")
    for name in ("Transport A", "Transport B"):
        groups.save(GroupSpec(name, f'label is "{name}"', is_transport=True), by="")
    groups.save(GroupSpec("Storage network", "role is storage"), by="")


def _sweep() -> None:
    """A sweep over the addresses that new branches are given, and what is done with what it finds."""
    spec = SweepSpec("New branches", "127.64.4.0/22", icmp=False, port=plan.PORT, every_s=DAY_S, retire_after_days=30)
    sweeps.save(spec, by="")
    admission.save(AdmissionRuleSpec("Power supplies wait", 'sys_descr like "*power supply*"', "hold"), by="")
    switches = 'address in 127.64.4.0/22 and sys_descr like "*switch*"'
    admission.save(AdmissionRuleSpec("Switches of new branches", switches, "add", groups=["New branches"]), by="")


def beneath(own: str, told: dict[str, Any]) -> dict[str, Any]:
    """An object as a profile has it, of one whose identifiers begin at the maker's own number."""
    return {name: f"{own}.{value}" if name in ("oid", "names", "limit") else value for name, value in told.items()}


def _profiles() -> dict[str, Profile]:
    """A profile for each family of the county's boxes."""
    numbers = {}
    for family, (kind, objects) in KINDS.items():
        _, model, number = plan.MODELS[family]
        spec = ProfileSpec(
            name=model,
            kind=kind,
            prefixes=[f"{plan.ENTERPRISE}.1.{number}"],
            objects=[asdict(check_object(**beneath(f"{plan.ENTERPRISE}.2.{number}", each))) for each in objects],
            wireless_tables=wireless.TABLES if family == "wlc" else {},
            restart={"oid": f"{plan.RESTART}.0", "value": 1} if family in ("acc", "core") else {},
            last_gasps=[plan.LOST_POWER],
            label_template=plan.TEMPLATES[plan.LABELLED_IN.get(family, "alias")],
        )
        numbers[family] = save(spec, by="")
    return numbers
