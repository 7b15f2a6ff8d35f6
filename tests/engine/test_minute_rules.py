"""Rules about links and bridges: what the worker makes of what devices told last."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.alarms.facts import Said
from lumtar.core.alarms.severity import Severity
from lumtar.core.measures.links import BRIDGE, LINK
from lumtar.core.refusal import Refusal
from lumtar.core.rules.ready import READY
from lumtar.core.topology import Identifier
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.addressing import Addresses, Binding
from lumtar.core.topology.bridging import Bridge, Forwarding, PortVlans, Role, SpanningTree
from lumtar.core.topology.identifiers import IdKind
from lumtar.domain.alarms import rules
from lumtar.domain.alarms.models import Alarm, Consequence
from lumtar.domain.alarms.services import Transition, apply
from lumtar.domain.inventory.models import Device, DeviceState, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings.models import Newest
from lumtar.domain.reports import frames
from lumtar.domain.topology import expected, looks
from lumtar.domain.topology.looks import Looked
from lumtar.domain.topology.models import ExpectedLink
from lumtar.engine import minute_rules

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)
UP, DOWN, HALF, FULL = 1, 2, 2, 3


def at(minutes):
    return NOW + timedelta(minutes=minutes)


def put(device, index, **more):
    """How a port was polled last."""
    port = Interface.objects.get(device=device, if_index=index)
    state = {"oper": UP, "port_bps": 10**9, **more}
    duplex = state.pop("duplex", FULL)
    Interface.objects.filter(pk=port.pk).update(duplex=duplex)
    Newest.objects.update_or_create(
        interface=port,
        defaults={
            "at": NOW, "base_at": NOW, "since": NOW, "uptime": 0, "discontinuity": 0, "counters": [0] * 12, "flags": 0,
            "admin": 1, "holds": 0, "moved": False, "present": True, "wide": True, **state,
        },
    )  # fmt: skip
    return port


@pytest.fixture
def ring(db):
    """Three switches in a ring: port 1 of each leads to port 2 of the next one; all recommended rules are in force."""
    made = []
    for number in (1, 2, 3):
        device = add_device(f"127.0.9.{number}", name=f"sw-{number}", kind="v2c", secret={"community": "word"})
        DeviceState.objects.update_or_create(device=device, defaults={"reach": "answers", "answered_at": NOW})
        for index in (1, 2, 3, 4):
            Interface.objects.create(device=device, if_index=index, name=f"g{index}", label=f"g{index}")
            put(device, index)
        Interface.objects.filter(device=device, if_index=4).update(role="access")
        made.append(device)
    for each in READY:
        if each.rule().subject in (LINK, BRIDGE):
            levels = [{"severity": int(one.severity), "limit": one.limit, "clear": one.clear} for one in each.levels]
            spec = {"name": each.name, "measure": each.measure, "levels": levels, "direction": each.direction}
            rules.create({**spec, "times": each.hold.times, "of": each.hold.of}, "anna")
    hear(made, -120)
    return made


def next_of(number):
    return number % 3 + 1


def neighbours(number, without=(), more=()):
    """What a switch of the ring hears at ports 1 and 2, as (port, other switch, its port)."""
    usual = [(1, next_of(number), 2), (2, next_of(next_of(number)), 1)]
    heard = [each for each in usual if each[0] not in without] + list(more)
    return [
        Told(port, f"g{port}", Identifier(IdKind.LOCAL, f"sw-{other}"), Identifier(IdKind.NAME, f"g{there}"), "", f"sw-{other}")
        for port, other, there in heard
    ]  # fmt: skip


def hear(switches, minutes, **said):
    """All switches tell what they hear; ``said`` is what some of them say instead, by name."""
    for number, device in enumerate(switches, 1):
        told = said.get(f"sw_{number}", neighbours(number))
        looks.keep(device.pk, Looked(at(minutes), 3.0, 5, told))


def look(*minutes):
    for minute in minutes:
        minute_rules.look(at(minute))


def standing():
    """The active alarms: type and sentence."""
    rows = Alarm.objects.filter(is_cleared=False).order_by("type", "resource_id")
    return [(alarm.type, alarm.changes.order_by("-at", "-pk").first().text) for alarm in rows]


def test_a_network_as_it_should_be_raises_nothing(ring):
    look(0, 1, 2)
    assert standing() == []


def test_a_neighbour_that_is_lost_is_one_alarm_for_both_ends_and_ends_when_it_is_back(ring):
    hear(ring, 0, sw_1=neighbours(1, without=[1]), sw_2=neighbours(2, without=[2]))
    look(0)
    assert standing() == [], "two looks in a row"
    look(1)
    ((kind, words),) = standing()
    assert kind == "neighbour-lost" and words == "sw-1 g1 does not see sw-2 g2 any more, though it is up"
    hear(ring, 2)
    look(2)
    assert standing() == []


def test_what_is_down_or_silent_has_an_alarm_of_its_own(ring):
    hear(ring, 0, sw_1=neighbours(1, without=[1, 2]), sw_2=neighbours(2, without=[2]), sw_3=neighbours(3, without=[1]))
    put(ring[0], 1, oper=DOWN)
    put(ring[1], 2, oper=DOWN)
    DeviceState.objects.filter(device=ring[2]).update(reach="silent")
    look(0, 1, 2)
    assert "neighbour-lost" not in dict(standing())


def test_a_neighbour_that_was_there_for_moments_only_is_not_missed(ring):
    hear(ring, -20, sw_1=neighbours(1, more=[(3, 3, 3)]))
    hear(ring, -10)
    look(0, 1, 2)
    assert standing() == []


def test_cables_that_changed_places_are_one_alarm_each_and_can_be_accepted(ring):
    one, two, _ = ring
    hear(
        ring, 0,
        sw_1=neighbours(1, without=[1], more=[(1, 3, 3)]), sw_3=neighbours(3, more=[(3, 1, 1)]), sw_2=neighbours(2, without=[2]),
    )  # fmt: skip
    look(0, 1)
    said = dict(standing())
    assert said["neighbour-changed"] == "sw-1 g1 sees sw-3 g3 instead of sw-2 g2"
    expected.accept(Interface.objects.get(device=one, if_index=1).pk, "anna")
    assert {row.interface.device_id for row in ExpectedLink.objects.all()} >= {one.pk, two.pk}
    look(2)
    assert "neighbour-changed" not in dict(standing()) and "neighbour-lost" not in dict(standing())


def test_after_a_day_what_is_there_is_meant_unless_it_is_frozen(ring):
    moved = {"sw_1": neighbours(1, without=[1]), "sw_2": neighbours(2, without=[2])}
    expected.freeze("anna", [ring[0].pk])
    hear(ring, 0, **moved)
    assert {each.port for each in expected.differences(at(60 * 25))} == {
        Interface.objects.get(device=ring[0], if_index=1).pk
    }
    assert expected.frozen()[0] == 2
    expected.thaw("anna")
    assert expected.differences(at(60 * 25)) == [] and expected.frozen() is None
    assert len(expected.differences(at(60))) == 2


def test_network_equipment_at_an_access_port_is_unexpected(ring):
    hear(ring, 0, sw_2=neighbours(2, more=[(4, 3, 3)]))
    look(0)
    assert standing() == [("unexpected-neighbour", "sw-2 g4 sees sw-3 g3, and no neighbour is expected there")]
    hear(ring, 1)
    look(1)
    assert standing() == []


def test_with_the_topology_frozen_any_further_neighbour_is_unexpected(ring):
    expected.freeze("anna")
    hear(ring, 0, sw_2=neighbours(2, more=[(3, 3, 3)]))
    look(0)
    assert [kind for kind, _ in standing()] == ["unexpected-neighbour"]


def test_a_link_that_one_end_does_not_hear_is_one_way_and_not_lost(ring):
    hear(ring, 0, sw_2=neighbours(2, without=[2]))
    look(0, 1)
    assert standing() == [("one-way-link", "sw-1 g1 hears sw-2 g2, which does not hear it")]


@pytest.mark.parametrize(
    ("here", "there", "kind", "words"),
    [
        ({"port_bps": 10**8}, {}, "speed-mismatch", "The ends run at different speeds: 100 Mb/s at sw-1 g1 and 1 Gb/s at sw-2 g2"),
        ({"duplex": HALF}, {}, "duplex-mismatch", "sw-1 g1 is half duplex, sw-2 g2 is full duplex"),
        ({"duplex": HALF}, {"duplex": HALF}, None, ""),
        ({"duplex": HALF}, {"duplex": 1}, None, ""),
        ({"port_bps": 10**8, "oper": DOWN}, {}, None, ""),
    ],
)  # fmt: skip
def test_ends_that_do_not_fit(ring, here, there, kind, words):
    put(ring[0], 1, **here)
    put(ring[1], 2, **there)
    look(0)
    assert [each for each in standing() if each[0] != "redundancy-lost"] == ([(kind, words)] if kind else [])


def bridge(vlans, **more):
    return Bridge(ports={index: PortVlans(1, vlans, ()) for index in (1, 2)}, **more)


def test_vlans_and_sizes_that_are_set_at_one_end_only(ring):
    for device, vlans, mtu in zip(ring, ((10, 20), (10,), (10, 20)), (1500, 1500, 9000), strict=True):
        looks.keep(device.pk, Looked(at(0), 3.0, 5, None, "", bridge(vlans), Addresses((), (), {1: mtu, 2: mtu})))
    look(0)
    said = standing()
    assert [kind for kind, _ in said] == ["mtu-mismatch", "mtu-mismatch", "vlan-mismatch", "vlan-mismatch"]
    assert ("vlan-mismatch", "One VLAN at one end only: 20 only at sw-1 g1") in said
    assert any("9,000 octets at sw-3" in words for _, words in said)


def test_an_open_ring_leaves_everybody_with_one_way_and_follows_from_the_link_that_is_down(ring):
    put(ring[0], 1, oper=DOWN)
    put(ring[1], 2, oper=DOWN)
    look(0, 1)
    ((kind, words),) = standing()
    assert kind == "redundancy-lost" and words == "Three devices have one way left while it is down: sw-1, sw-2, sw-3"
    alarm = Alarm.objects.get()
    assert alarm.label == "sw-1 g1 – sw-2 g2" and alarm.device == ring[0]


def test_a_member_of_an_aggregate_that_is_down_stays_its_member(ring):
    one = ring[0]
    Interface.objects.create(device=one, if_index=9, name="ag1", label="ag1")
    put(one, 9)
    looks.keep(one.pk, Looked(at(0), 3.0, 5, None, "", Bridge(aggregates={1: 9, 2: 9})))
    put(one, 2, oper=DOWN)
    looks.keep(one.pk, Looked(at(5), 3.0, 5, None, "", Bridge(aggregates={1: 9})))
    look(5, 6)
    said = dict(standing())
    assert said["aggregate-member-down"] == "1 of two members down: sw-1 g2"


def test_what_a_link_that_is_down_means_is_a_consequence_of_it(ring):
    port = put(ring[0], 1, oper=DOWN)
    put(ring[1], 2, oper=DOWN)
    apply([Transition("interface", port.pk, "down", "0", Severity.MAJOR, Said("down"), at(0), ring[0].pk)])
    look(0, 1)
    row = Consequence.objects.get(ended_at=None)
    assert (row.alarm.type, row.cause.type) == ("redundancy-lost", "down")
    assert row.reason == "It follows from the link at sw-1 g1, which is down"


def test_a_tunnel_is_down_since_what_carries_it_is(ring):
    one = ring[0]
    looks.keep(one.pk, Looked(at(0), 3.0, 5, None, "", None, Addresses((), (), {}, {4: (3,)})))
    carrier, tunnel = put(one, 3, oper=DOWN), put(one, 4, oper=DOWN)
    for port, seconds in ((tunnel, 0), (carrier, 1)):
        when = at(0) + timedelta(seconds=seconds)
        apply([Transition("interface", port.pk, "down", "0", Severity.MAJOR, Said("down"), when, one.pk)])
    row = Consequence.objects.get(ended_at=None)
    assert (row.alarm.resource_id, row.cause.resource_id) == (tunnel.pk, carrier.pk)
    assert row.reason == "It runs over sw-1 g3, which is down"


def tree(root, role=Role.DESIGNATED, changes=0):
    return SpanningTree(f"32768 02:00:00:00:00:0{root}", 1, 2000, changes, {1: role})


def test_another_root_another_role_and_a_storm_of_changes(ring):
    one = ring[0]
    looks.keep(one.pk, Looked(at(-30), 3.0, 5, None, "", bridge((10,), tree=tree(1, Role.ROOT, 0))))
    looks.keep(one.pk, Looked(at(0), 3.0, 5, None, "", bridge((10,), tree=tree(2, Role.ALTERNATE, 400))))
    look(2)
    said = dict(standing())
    assert said["spanning-tree-root-changed"].startswith("Another bridge became the root of its spanning tree 2 min")
    assert said["spanning-tree-role-changed"].startswith("It became alternate port of the spanning tree 2 min")
    assert said["topology-changes"].startswith("Spanning-tree topology changes an hour 800")
    looks.keep(one.pk, Looked(at(90), 3.0, 5, None, "", bridge((10,), tree=tree(2, Role.ALTERNATE, 400))))
    look(90)
    assert standing() == []


def test_stations_that_move_all_at_once_and_addresses_that_change_hands(ring):
    one, two, _ = ring

    def heard(index):
        return Bridge(forwarding=Forwarding.of((0x020100000000 + n, index, 10) for n in range(30)))

    looks.keep(one.pk, Looked(at(-10), 3.0, 5, None, "", heard(3)))
    looks.keep(one.pk, Looked(at(0), 3.0, 5, None, "", heard(4)))
    for minutes, owner in ((-10, 1), (0, 2)):
        told = [Binding(3, f"192.0.2.{n}", f"02:01:00:00:0{owner}:{n:02x}") for n in range(1, 9)]
        looks.keep(two.pk, Looked(at(minutes), 3.0, 5, None, "", None, Addresses((), tuple(told))))
    look(1)
    said = dict(standing())
    assert said["stations-move"].startswith("Stations that moved within an hour 30")
    assert said["addresses-move"].startswith("Addresses with another MAC address within an hour 8")
    look(70)
    assert standing() == []


def test_it_is_looked_at_once_a_minute_whoever_asks_and_remembers_over_restarts(ring):
    hear(ring, 0, sw_1=neighbours(1, without=[1]), sw_2=neighbours(2, without=[2]))
    assert minute_rules.look(at(0)) == [] and minute_rules.look(at(0.5)) == []
    assert standing() == [], "half a minute later is no further look"
    look(1)
    assert len(standing()) == 1


def test_a_window_over_links_and_a_rehearsal_are_refused_with_the_reason(ring):
    level = {"severity": 3, "limit": 1, "clear": 1}
    with pytest.raises(Refusal, match="once a minute"):
        rules.create(
            {"name": "Mean", "measure": "link_lost", "levels": [level], "statistic": "mean", "window_s": 600}, "anna"
        )
    with pytest.raises(Refusal, match="cannot be rehearsed"):
        frames.of_measure("link_lost", [1], NOW - timedelta(days=1), NOW)


def test_a_retired_device_ends_what_was_raised_about_its_links(ring):
    hear(ring, 0, sw_1=neighbours(1, without=[1]), sw_2=neighbours(2, without=[2]))
    look(0, 1)
    assert len(standing()) == 1
    Device.objects.filter(pk__in=[each.pk for each in ring]).update(retired_at=at(2))
    look(2)
    assert standing() == []
