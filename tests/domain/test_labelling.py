"""Label rules and profiles, kept and carried out."""

from datetime import UTC, datetime

import pytest

from lumtar.core.conditions import ConditionError
from lumtar.core.discovery import Described, PortDescribed
from lumtar.core.profiles import Table
from lumtar.domain.inventory import description, labelling, profiles, services
from lumtar.domain.inventory.labelling import LabelRuleSpec
from lumtar.domain.inventory.models import Device, Interface, LabelRule, LabelRun, Profile
from lumtar.domain.inventory.profiles import ProfileSpec
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.editing import Stale

pytestmark = pytest.mark.django_db
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
SWITCH = Described("alw-acc-1", "Fernhall access switch", "1.3.6.1.4.1.32473.1.12", "Alderwick", "")
PORTS = [
    PortDescribed(1, "g1", "port g1", "Reading room", 6, "", 10**9),
    PortDescribed(25, "x1", "port x1", "Uplink to alw-wan-1", 6, "", 10**10),
    PortDescribed(26, "tun1", "", "", 131, "", 0),
]


@pytest.fixture(autouse=True)
def nothing_built_in():
    LabelRule.objects.all().delete()
    Profile.objects.all().delete()


@pytest.fixture
def switch():
    return services.add_device("127.0.0.9", port=1161, site="Alderwick", kind="v2c", secret={"community": "word"})


def described(device):
    description.describe(device, SWITCH, PORTS, [], NOW)
    return list(device.interfaces.order_by("if_index"))


def rule(name, condition="", **more):
    return labelling.save_rule(LabelRuleSpec(name, condition, **more), "anna")


class TestRules:
    def test_ports_have_their_role_from_the_first_description_on(self, switch):
        rule("Tunnels", 'type is "tunnel"', role="tunnel")
        rule("Fast", "speed >= 10G", role="uplink", tags={"watch": "yes"})
        rule("Rest", role="access")
        assert [(port.role, port.tags) for port in described(switch)] == [
            ("access", {}),
            ("uplink", {"watch": "yes"}),
            ("tunnel", {}),
        ]

    def test_a_change_labels_all_ports_anew_and_says_how_many(self, switch):
        described(switch)
        rule("Uplinks", 'label like "uplink*"', role="uplink")
        assert labelling.label_ports() == (3, 1)
        assert labelling.label_ports() == (3, 0)
        assert LabelRun.objects.count() == 2
        assert Interface.objects.get(role="uplink").if_index == 25

    def test_a_rule_is_tried_before_it_is_kept(self, switch):
        described(switch)
        rule("Rest", role="access")
        labelling.label_ports()
        tried = labelling.checked_rule(LabelRuleSpec("Uplinks", 'label like "uplink*"', role="uplink"))
        assert labelling.preview(tried, place=1).changed == 0
        effect = labelling.preview(tried, place=0)
        assert (effect.matched, effect.changed) == (1, 1)
        assert effect.examples == [("alw-acc-1", "Uplink to alw-wan-1", "Uplink to alw-wan-1", "uplink")]
        assert not Interface.objects.filter(role="uplink").exists()

    def test_a_port_is_overruled_and_left_to_the_rules_again(self, switch):
        room = described(switch)[0]
        rule("Rest", role="access", tags={"floor": "2"})
        labelling.overrule(room.pk, "  Reading  room east ", "trunk", {"floor": ""}, "anna")
        room.refresh_from_db()
        assert (room.label, room.role, room.tags) == ("Reading room east", "trunk", {})
        assert labelling.explain(room.pk).role_by == "somebody, for this port"
        described(switch)
        room.refresh_from_db()
        assert (room.label, room.role) == ("Reading room east", "trunk")
        labelling.overrule(room.pk, None, None, {}, "anna")
        room.refresh_from_db()
        assert (room.label, room.role, room.tags) == ("Reading room", "access", {"floor": "2"})
        assert labelling.explain(room.pk).role_by == "the rule “Rest”"
        texts = list(Entry.objects.filter(kind="user", interface=room).order_by("pk").values_list("text", flat=True))
        assert texts == [
            "Reading room: label Reading room east, role trunk, floor=, decided for this port",
            "Reading room east: left to the rules",
        ]

    @pytest.mark.parametrize(
        ("told", "said"),
        [
            (LabelRuleSpec("", role="access"), "1 to 80 characters"),
            (LabelRuleSpec("x"), "decides nothing yet"),
            (LabelRuleSpec("x", "lable is y", role="access"), "is no field"),
            (LabelRuleSpec("x", role="boss"), "A role is one of"),
            (LabelRuleSpec("x", template="{nothing}"), "nothing that a port says"),
            (LabelRuleSpec("x", tags={"": "y"}), "at most 20 tags"),
        ],
    )
    def test_a_wrong_rule_is_refused(self, told, said):
        with pytest.raises(ValueError, match=said):
            labelling.save_rule(told, "anna")

    def test_names_are_unique_and_the_second_editor_is_told(self):
        made = rule("Uplinks", role="uplink")
        with pytest.raises(ValueError, match="There is a label rule called Uplinks already"):
            rule("Uplinks", role="trunk")
        labelling.save_rule(LabelRuleSpec("Up", role="uplink"), "bert", made.pk, made.edition)
        with pytest.raises(Stale, match="bert changed this meanwhile"):
            labelling.save_rule(LabelRuleSpec("Down", role="uplink"), "anna", made.pk, made.edition)

    def test_order_decides(self, switch):
        described(switch)
        first, second = rule("A", role="access"), rule("B", role="trunk")
        labelling.order_rules([second.pk, first.pk], "anna")
        labelling.label_ports()
        assert set(Interface.objects.values_list("role", flat=True)) == {"trunk"}
        with pytest.raises(ValueError, match="There is no label rule 999"):
            labelling.order_rules([999], "anna")


class TestSources:
    def test_a_devices_template_renames_its_ports(self, switch):
        described(switch)
        changed = services.change_device(switch.pk, 1, "anna", label_template="{name} {alias}")
        labels = list(changed.interfaces.order_by("if_index").values_list("label", flat=True))
        assert labels == ["g1 Reading room", "x1 Uplink to alw-wan-1", "tun1"]
        assert Entry.objects.filter(text__contains="label template {name} {alias}, was none").exists()
        with pytest.raises(ValueError, match="nothing that a port says"):
            services.change_device(switch.pk, 2, "anna", label_template="{room}")

    def test_a_profiles_template_serves_where_the_device_has_none(self, switch):
        profiles.save(ProfileSpec("Fernhall", prefixes=["1.3.6.1.4.1.32473.1"], label_template="{name}"), "anna")
        assert [port.label for port in described(switch)] == ["g1", "x1", "tun1"]
        assert labelling.explain(switch.interfaces.get(if_index=1).pk).label_by == "the profile's template"


class TestProfiles:
    def told(self, **more):
        return ProfileSpec("Fernhall", "switch", ["1.3.6.1.4.1.32473.1"], **more)

    def test_a_device_is_recognised_when_it_is_described(self, switch):
        made = profiles.save(self.told(interval_s=120, tables=["interfaces"]), "anna")
        described(switch)
        switch.refresh_from_db()
        assert (switch.profile, switch.interval_s) == (made, 120)
        assert switch.profile_by.endswith("lies under 1.3.6.1.4.1.32473.1")
        assert profiles.objects_of(switch) == (frozenset({Table.INTERFACES}), ())

    def test_what_somebody_chose_stays(self, switch):
        profiles.save(self.told(), "anna")
        other = profiles.save(ProfileSpec("Other", "server"), "anna")
        services.change_device(switch.pk, 1, "anna", profile=other.pk)
        described(Device.objects.get(pk=switch.pk))
        switch.refresh_from_db()
        assert (switch.profile, switch.profile_by) == (other, "")
        changed = services.change_device(switch.pk, 2, "anna", profile=0)
        assert changed.profile.name == "Fernhall"
        with pytest.raises(ValueError, match="no such profile"):
            services.change_device(switch.pk, 3, "anna", profile=999)

    def test_an_interval_that_somebody_chose_stays(self, switch):
        services.change_device(switch.pk, 1, "anna", interval_s=30)
        profiles.save(self.told(interval_s=120), "anna")
        described(Device.objects.get(pk=switch.pk))
        assert Device.objects.get().interval_s == 30

    def test_a_change_is_for_later_devices_or_for_all(self, switch):
        made = profiles.save(self.told(), "anna")
        described(switch)
        wanted = self.told(tables=["interfaces"], interval_s=300)
        profiles.save(wanted, "anna", made.pk, 1, for_all=False)
        switch.refresh_from_db()
        assert Table.SENSORS in profiles.objects_of(switch)[0] and switch.interval_s == 60
        profiles.save(self.told(tables=["interfaces", "sensors"], interval_s=240), "anna", made.pk, 2, for_all=True)
        switch.refresh_from_db()
        assert profiles.objects_of(switch)[0] == {Table.INTERFACES, Table.SENSORS}
        texts = list(Entry.objects.filter(text__startswith="profile Fernhall changed").values_list("text", flat=True))
        assert "profile Fernhall changed, for devices added from now on" in texts
        assert "profile Fernhall changed, for all 1 devices that use it" in texts

    def test_what_a_profile_does_not_read_is_kept(self, switch):
        profiles.save(self.told(tables=["interfaces"]), "anna")
        described(switch)
        Device.objects.update(maker="Fernhall", serial="AB12CD34")
        described(Device.objects.get(pk=switch.pk))
        switch.refresh_from_db()
        assert (switch.maker, switch.serial) == ("Fernhall", "AB12CD34")
        assert not Entry.objects.filter(text__contains="serial number").exists()

    def test_ports_that_a_profile_leaves_out_are_not_called_gone(self, switch):
        made = profiles.save(self.told(tables=["interfaces"]), "anna")
        listed = described(switch)
        profiles.save(self.told(tables=["inventory"]), "anna", made.pk, 1, for_all=True)
        description.describe(Device.objects.get(pk=switch.pk), SWITCH, [], [], NOW)
        texts = list(Entry.objects.values_list("text", flat=True))
        assert f"its profile does not read ports: {len(listed)} are not listed any more, their history is kept" in texts
        assert not [text for text in texts if text.endswith("is gone")]

    def test_deleting_a_profile_leaves_its_devices_as_they_are(self, switch):
        made = profiles.save(self.told(tables=["interfaces"]), "anna")
        described(switch)
        profiles.delete(made.pk, "anna")
        switch.refresh_from_db()
        assert switch.profile is None and profiles.objects_of(switch)[0] == {Table.INTERFACES}

    @pytest.mark.parametrize(
        ("more", "said"),
        [
            ({"name": " "}, "1 to 80 characters"),
            ({"kind": "toaster"}, "A kind is one of"),
            ({"tables": ["flows"]}, "There is no table 'flows'"),
            ({"prefixes": ["enterprises"]}, "is not an object identifier"),
            ({"interval_s": 1}, "The interval must be between"),
            ({"label_template": "{x}"}, "nothing that a port says"),
            ({"objects": [{"oid": "1.3.1", "name": "A"}, {"oid": "1.3.1", "name": "B"}]}, "the identifier 1.3.1"),
        ],
    )
    def test_a_wrong_profile_is_refused(self, more, said):
        plain = {"unit": "", "scale": 1.0, "counts": False, "text": False}
        more = {**more, "objects": [{**plain, **each} for each in more.get("objects", [])]}
        with pytest.raises(ValueError, match=said):
            profiles.save(ProfileSpec(**{"name": "x", **more}), "anna")
        with pytest.raises(ConditionError):
            profiles.save(ProfileSpec("x", condition="sys_descr has x"), "anna")


def test_a_new_installation_knows_the_usual_kinds(django_db_blocker):
    """The rules and profiles of the migration are understood, and do what they are for."""
    from importlib import import_module

    first = import_module("lumtar.domain.inventory.migrations.0006_first_profiles_and_label_rules")
    for name, kind, condition in first.PROFILES:
        profiles.save(ProfileSpec(name, kind, condition=condition), "")
    for name, condition, role in first.LABEL_RULES:
        labelling.save_rule(LabelRuleSpec(name, condition, role), "")
    device = services.add_device("127.0.0.8", port=1161, kind="v2c", secret={"community": "word"})
    assert [port.role for port in described(device)] == ["access", "uplink", "tunnel"]
    assert Device.objects.get(pk=device.pk).profile.kind == "switch"
    kinds = [
        ("CF-24 storage switch", "storage switch"),
        ("LG-C2 wireless controller", "wireless controller"),
        ("IM-8 firewall", "firewall"),
        ("TB-40 branch router", "router"),
        ("HP-3000 power supply", "power supply"),
        ("Linux depot 6.1", "server"),
    ]
    for descr, kind in kinds:
        assert profiles.profile_for({"sys_descr": descr})[0].kind == kind
