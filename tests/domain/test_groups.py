"""Groups of ports: by hand, by condition, of groups; and conditions that mean the same here and in the database."""

import pytest
from django.db import connection
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lumtar.core.conditions import Ask, Both, ConditionError, Either, Not, understand
from lumtar.core.groups import GROUP_FIELDS, circle, within
from lumtar.domain.inventory import asking, groups
from lumtar.domain.inventory.groups import GroupSize, GroupSpec
from lumtar.domain.inventory.models import Device, Group, Interface
from lumtar.domain.inventory.scope import Scope
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.editing import Stale
from lumtar.domain.reports import cells, devices, ports
from lumtar.domain.setup import text
from tests.network import fill

pytestmark = pytest.mark.django_db
FIELDS = {field.name: field for field in GROUP_FIELDS}
WORDS = ["Uplink", "uplink*", "*%*", "a_c", "[x]", "?plink", "", "*", "\\", "ge-0/0/1", "floor", "floor=2", "LIBRARY"]


@pytest.fixture
def network():
    found = fill(0.2)
    Interface.objects.filter(label="Transport A").update(role="wan", tags={"floor": "2"})
    return found


def held(condition):
    values = {}
    asked = asking.as_sql(understand(condition, GROUP_FIELDS).tree, values)
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT gi.id {groups.PORTS} AND {asked}", values)
        return {row[0] for row in cursor.fetchall()}


def ids(**scope):
    return {port for each in cells.of_devices(scope=Scope(**scope)) for port in each.ids}


asks = st.one_of(
    st.builds(
        Ask,
        st.sampled_from([FIELDS[name] for name in ("label", "name", "role", "device", "site", "maker")]),
        st.sampled_from(["is", "like"]),
        st.lists(st.sampled_from(WORDS), min_size=1, max_size=3).map(tuple),
        st.just(False),
    ),
    st.builds(
        Ask, st.just(FIELDS["tag"]), st.just("has"), st.lists(st.sampled_from(WORDS), min_size=1, max_size=2).map(tuple)
    ),
    st.builds(
        Ask,
        st.just(FIELDS["label"]),
        st.just("is"),
        st.lists(st.sampled_from(WORDS), min_size=1, max_size=2).map(tuple),
        st.just(True),
    ),
)
trees = st.recursive(
    asks,
    lambda inner: st.one_of(
        st.lists(inner, max_size=3).map(lambda parts: Both(tuple(parts))),
        st.lists(inner, min_size=1, max_size=3).map(lambda parts: Either(tuple(parts))),
        inner.map(Not),
    ),
    max_leaves=6,
)


def written(tree):
    """A tree as a person would write it."""
    match tree:
        case Ask(field, verb, values, negated):
            listed = ", ".join(f'"{value}"' for value in values)
            return f"{field.name} {verb} {'not ' if negated else ''}({listed})"
        case Both(parts):
            return f"({' and '.join(map(written, parts))})" if parts else '(label like "*")'
        case Either(parts):
            return f"({' or '.join(map(written, parts))})"
        case Not(part):
            return f"not ({written(part)})"


def as_asked(port):
    """What a condition is told of a port."""
    device = port.device
    tags = {**device.tags, **port.tags}
    return {
        "label": port.label,
        "name": port.name,
        "role": port.role,
        "device": device.name,
        "site": device.site.name if device.site else "",
        "maker": device.maker,
        "address": device.address,
        "tag": {word.lower() for key, value in tags.items() for word in (key, f"{key}={value}")},
    }


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(tree=trees)
def test_the_database_understands_a_condition_as_everybody_else_does(network, tree):
    ports = list(Interface.objects.select_related("device__site").order_by("pk"))
    odd = ("Uplink", "100%", "a_c", "abc", "[x]", "x", "\\", "", "LIBRARY")
    for port, label in zip(ports, odd, strict=False):
        Interface.objects.filter(pk=port.pk).update(label=label)
        port.label = label
    condition = understand(written(tree), GROUP_FIELDS)
    assert held(condition.text) == {port.pk for port in ports if condition(as_asked(port))}


def test_speeds_are_compared_as_numbers(network):
    everything = held("")
    assert held("speed >= 1G") | held("speed < 1G") == everything and held("speed >= 1G")
    assert held("speed > 400G") == set() and held("speed = (1G, 10G)") == held("speed = 1G") | held("speed = 10G")


def test_a_condition_is_asked_of_one_port_and_of_the_slowest_device(network):
    port = Interface.objects.get(device__name="hex-wan-1", if_index=1)
    assert asking.holds_for("interface", "role is wan", port.pk) and not asking.holds_for(
        "interface", "role is uplink", port.pk
    )
    assert not asking.holds_for("interface", "role is wan", 10**9)
    Device.objects.filter(name="sal-acc-1").update(interval_s=300)
    assert asking.slowest_for("interface", "") == ("sal-acc-1", 300)
    assert asking.slowest_for("interface", "device is hex-wan-1") == ("hex-wan-1", 60)
    assert asking.slowest_for("interface", "device is nobody") is None
    Device.objects.filter(name="sal-acc-1").update(enabled=False)
    assert asking.slowest_for("interface", "") == ("hex-wan-1", 60)


def test_a_group_has_what_was_put_into_it_and_what_its_condition_holds_for_and_its_parts(network):
    by_hand = Interface.objects.filter(role="").order_by("pk").first()
    other = Device.objects.exclude(pk=by_hand.device_id).first()
    wans = groups.save(GroupSpec("WAN links", "role is wan"), "anna")
    picked = groups.save(GroupSpec("Picked"), "anna")
    assert groups.put(picked.pk, [by_hand.pk], "anna") == 1
    whole = groups.save(GroupSpec("Everything that matters", subgroups=[wans.pk, picked.pk]), "anna")
    wan_ports = set(Interface.objects.filter(role="wan").values_list("pk", flat=True))
    assert ids(group=wans.pk) == wan_ports
    assert ids(group=whole.pk) == wan_ports | {by_hand.pk}
    other.groups.add(picked)
    assert ids(group=picked.pk) == {by_hand.pk, *other.interfaces.values_list("pk", flat=True)}
    assert ids(group=whole.pk, role="wan") == wan_ports
    rows, total = ports.find(scope=Scope(group=wans.pk))
    assert total == len(wan_ports) == len(rows)
    assert devices.find(group=wans.pk)[1] == len({row.device_id for row in rows})
    assert groups.counts()[wans.pk] == GroupSize(total, len({row.device_id for row in rows}))
    assert groups.put(picked.pk, [by_hand.pk], "anna", out=True) == 0
    assert "group WAN links created" in Entry.objects.values_list("text", flat=True)
    Interface.objects.filter(role="wan").update(role="uplink")
    assert ids(group=wans.pk) == set(), "a condition holds for what is now"


def test_a_group_cannot_contain_itself(network):
    inner = groups.save(GroupSpec("Inner"), "anna")
    middle = groups.save(GroupSpec("Middle", subgroups=[inner.pk]), "anna")
    outer = groups.save(GroupSpec("Outer", subgroups=[middle.pk]), "anna")
    with pytest.raises(ValueError, match="Inner cannot contain Outer, which contains it already"):
        groups.save(GroupSpec("Inner", subgroups=[outer.pk]), "anna", inner.pk, inner.edition)
    with pytest.raises(ValueError, match="Inner cannot contain itself"):
        groups.save(GroupSpec("Inner", subgroups=[inner.pk]), "anna", inner.pk, inner.edition)
    assert within({1: [2], 2: [3, 1]}, 1) == {1, 2, 3}
    assert circle({1: [2], 2: [3]}, 3, [4, 1]) == 1 and circle({1: [2]}, 3, [1]) is None


def test_what_is_wrong_with_a_group_is_said_and_nothing_is_lost(network):
    kept = groups.save(GroupSpec("WAN links", "role is wan"), "anna")
    with pytest.raises(ValueError, match="called WAN links already"):
        groups.save(GroupSpec("WAN links"), "bert")
    with pytest.raises(ConditionError, match="is no field"):
        groups.save(GroupSpec("Odd", "colour is red"), "anna")
    with pytest.raises(ValueError, match="There is no group 999"):
        groups.save(GroupSpec("Odd", subgroups=[999]), "anna")
    with pytest.raises(ValueError, match="1 to 80 characters"):
        groups.save(GroupSpec(" "), "anna")
    with pytest.raises(ValueError, match="not there any more"):
        groups.put(kept.pk, [999_999], "anna")
    groups.save(GroupSpec("WAN links", "role is uplink"), "anna", kept.pk, kept.edition)
    with pytest.raises(Stale):
        groups.save(GroupSpec("WAN links", "role is tunnel"), "bert", kept.pk, kept.edition)
    assert Group.objects.get().condition == "role is uplink"
    groups.delete(kept.pk, "anna")
    with pytest.raises(Group.DoesNotExist):
        ids(group=kept.pk)


def test_groups_go_out_as_text_and_come_back(network):
    wans = groups.save(GroupSpec("WAN links", "role is wan"), "anna")
    groups.save(GroupSpec("All links", subgroups=[wans.pk]), "anna")
    told = text.written()
    Group.objects.all().delete()
    applied = text.apply(told, "anna")
    assert not applied.problems and {change.name for change in applied.changes} == {"WAN links", "All links"}
    assert [part.name for part in Group.objects.get(name="All links").subgroups.all()] == ["WAN links"]
    assert text.apply(told, "anna").changes == []
