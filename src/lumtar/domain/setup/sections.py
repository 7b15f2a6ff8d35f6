"""The sections of a set-up that are about devices and ports, and the list of all."""

from lumtar.core.groups import within
from lumtar.core.reach import PRIVATE
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import credentials, groups, labelling, profiles
from lumtar.domain.inventory.models import Credential, Group, LabelRule, Profile, Site
from lumtar.domain.inventory.services import site_called
from lumtar.domain.setup import subjects
from lumtar.domain.setup.alarms import Maintenances, Rules
from lumtar.domain.setup.calling import CallPlans, Contacts, Teams
from lumtar.domain.setup.controllers import ControllerProfiles, Controllers
from lumtar.domain.setup.paths import Paths, ServiceClasses, Transports
from lumtar.domain.setup.section import Plain, Section, edition_of, number_of, numbers_of
from lumtar.domain.setup.traffic import AddressLists, DeclaredFields, OwnApplications, WatchedTraffics
from lumtar.domain.sweeps import admission
from lumtar.domain.sweeps import services as sweeps
from lumtar.domain.sweeps.models import AdmissionRule, Sweep


class Sites(Section):
    """Where devices are."""

    key = "sites"
    blank: Plain = {}

    def read(self) -> list[Plain]:
        """All sites."""
        return [{"name": name} for name in Site.objects.order_by("name").values_list("name", flat=True)]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Make a site."""
        site_called(entry["name"])


class Credentials(Section):
    """How devices are spoken to, without the secrets: these never leave Lumtar."""

    key = "credentials"
    ordered = Credential
    blank: Plain = {"kind": "v2c", "user": "", "auth": "", "priv": "", "sites": [], "ranges": PRIVATE,
                    "is_for_writing": False}  # fmt: skip

    def read(self) -> list[Plain]:
        """All credentials in the order of trying."""
        entries = []
        for credential, _ in credentials.with_counts():
            secret = credentials.revealed(credential)
            said = {name: secret.get(name, "") for name in ("user", "auth", "priv")}
            names = sorted(site.name for site in credential.sites.all())
            entries.append(
                {
                    "name": credential.name, "kind": credential.kind, **said, "sites": names, "ranges": credential.ranges,
                    "is_for_writing": credential.is_for_writing,
                }
            )  # fmt: skip
        return entries

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Change where one is tried; its secret can only be entered by a person."""
        if is_new:
            raise Refusal("It is not here yet, and a set-up holds no secrets: make it first.")
        credential = Credential.objects.get(name=entry["name"])
        secret = credentials.revealed(credential)
        if credential.kind != entry["kind"] or any(
            secret.get(name, "") != entry[name] for name in ("user", "auth", "priv")
        ):
            raise Refusal("Its version, user and protocols belong to its secret: change them on screen.")
        credentials.change(
            credential.pk,
            credential.edition,
            name=credential.name,
            secret={},
            sites=entry["sites"],
            kind=credential.kind,
            by=by,
            ranges=entry["ranges"],
            is_for_writing=entry["is_for_writing"],
        )


class Profiles(Section):
    """What is read from which kind of device."""

    key = "profiles"
    ordered = Profile
    blank: Plain = {
        "kind": "other",
        "prefixes": [],
        "condition": "",
        "tables": profiles.ProfileSpec("").tables,
        "objects": [],
        "interval_s": None,
        "label_template": "",
        "neighbour_table": {},
        "wireless_tables": {},
        "restart": {},
        "last_gasps": [],
    }

    def __init__(self, for_all: bool = False) -> None:
        self._for_all = for_all

    def read(self) -> list[Plain]:
        """All profiles in their order."""
        same = ("name", *(name for name in self.blank if name != "objects"))
        return [
            {**{name: getattr(each, name) for name in same}, "objects": each.objects_read}
            for each in Profile.objects.all()
        ]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a profile; for the devices that have it only if that is wanted."""
        plain = {"unit": "", "scale": 1.0, "counts": False, "text": False}
        spec = profiles.ProfileSpec(**{**entry, "objects": [{**plain, **each} for each in entry["objects"]]})
        known = {} if is_new else edition_of(Profile, entry["name"])
        profiles.save(spec, by, **known, for_all=self._for_all)


class LabelRules(Section):
    """What ports are called and are for."""

    key = "label_rules"
    ordered = LabelRule
    blank: Plain = {"condition": "", "role": "", "template": "", "tags": {}}

    def read(self) -> list[Plain]:
        """All label rules in their order."""
        return [{name: getattr(each, name) for name in ("name", *self.blank)} for each in LabelRule.objects.all()]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a label rule."""
        labelling.save_rule(
            labelling.LabelRuleSpec(**entry), by, **({} if is_new else edition_of(LabelRule, entry["name"]))
        )


class Sweeps(Section):
    """Recurring scans."""

    key = "sweeps"
    blank: Plain = {
        name: value if not isinstance(value, tuple) else []
        for name, value in ((each, getattr(sweeps.SweepSpec("", ""), each)) for each in sweeps.SweepSpec.__slots__)
        if name != "name"
    }

    def read(self) -> list[Plain]:
        """All sweeps by name."""
        same = [name for name in ("name", *self.blank) if name not in ("site", "credentials")]
        return [
            {
                **{name: getattr(each, name) for name in same},
                "site": each.site.name if each.site else "",
                "credentials": [credential.name for credential in each.credentials.all()],
            }
            for each in Sweep.objects.select_related("site").prefetch_related("credentials")
        ]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a sweep."""
        numbers = numbers_of(Credential, entry["credentials"], "credential")
        spec = sweeps.SweepSpec(**{**entry, "credentials": numbers})
        sweeps.save(spec, by, **({} if is_new else edition_of(Sweep, entry["name"])))


class AdmissionRules(Section):
    """What is done with what sweeps found."""

    key = "admission_rules"
    ordered = AdmissionRule
    blank: Plain = {
        "condition": "",
        "outcome": "hold",
        "site": "",
        "groups": [],
        "tags": {},
        "profile": None,
        "credential": None,
        "interval_s": None,
    }

    def read(self) -> list[Plain]:
        """All admission rules in their order."""
        same = ("name", "condition", "outcome", "groups", "tags", "interval_s")
        return [
            {
                **{name: getattr(each, name) for name in same},
                "site": each.site.name if each.site else "",
                "profile": each.profile.name if each.profile else None,
                "credential": each.credential.name if each.credential else None,
            }
            for each in AdmissionRule.objects.select_related("site", "profile", "credential")
        ]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep an admission rule."""
        named = {
            "profile": number_of(Profile, entry["profile"], "profile"),
            "credential": number_of(Credential, entry["credential"], "credential"),
        }
        spec = admission.AdmissionRuleSpec(**{**entry, **named})
        admission.save(spec, by, **({} if is_new else edition_of(AdmissionRule, entry["name"])))


class Groups(Section):
    """Named sets of ports: by a condition, of other groups, or put into them by hand."""

    key = "groups"
    blank: Plain = {"condition": "", "subgroups": [], "ports": [], "is_transport": False}
    former = {"parts": "subgroups"}

    def read(self) -> list[Plain]:
        """All groups, each after those that it contains."""
        stored = list(Group.objects.prefetch_related("subgroups", "ports"))
        subgroups = {group.pk: [each.pk for each in group.subgroups.all()] for group in stored}
        return [
            {
                "name": group.name,
                "condition": group.condition,
                "subgroups": sorted(each.name for each in group.subgroups.all()),
                "ports": subjects.listed("interface", group.ports.all()),
                "is_transport": group.is_transport,
            }
            for group in sorted(stored, key=lambda each: (len(within(subgroups, each.pk)), each.name))
        ]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a group."""
        spec = groups.GroupSpec(
            entry["name"], entry["condition"], numbers_of(Group, entry["subgroups"], "group"), entry["is_transport"]
        )
        group = groups.save(spec, by, **({} if is_new else edition_of(Group, entry["name"])))
        before, wanted = set(group.ports.values_list("pk", flat=True)), set()
        for each in entry["ports"]:
            wanted.add(subjects.number("interface", each))
        if more := wanted - before:
            groups.put(group.pk, sorted(more), by)
        if less := before - wanted:
            groups.put(group.pk, sorted(less), by, out=True)


def sections(for_all: bool = False) -> list[Section]:
    """All sections, each after those that it names."""
    return [
        Sites(),
        Credentials(),
        Profiles(for_all),
        LabelRules(),
        Groups(),
        OwnApplications(),
        DeclaredFields(),
        AddressLists(),
        WatchedTraffics(),
        ServiceClasses(),
        Transports(),
        Paths(),
        ControllerProfiles(),
        Controllers(),
        Contacts(),
        Teams(),
        CallPlans(),
        Rules(),
        Maintenances(),
        Sweeps(),
        AdmissionRules(),
    ]
