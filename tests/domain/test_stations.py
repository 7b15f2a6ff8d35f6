"""What devices tell of bridges, stations and addresses, kept over time; where something is; links that follow."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.topology import End, Evidence
from lumtar.core.topology.addressing import Addresses, Binding, OwnAddress
from lumtar.core.topology.bridging import Bridge, Forwarding, PortVlans, Role, SpanningTree
from lumtar.core.topology.macs import mac_number
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.topology import by_hand, inferring, looks, queries, stations
from lumtar.domain.topology.looks import Looked
from lumtar.domain.topology.models import Bridge as KeptBridge
from lumtar.domain.topology.models import NeighbourLook, PortLayer2, Station

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)
DESK, PRINTER = "02:01:00:00:00:01", "02:01:00:00:00:02"


def at(minutes):
    return NOW + timedelta(minutes=minutes)


@pytest.fixture
def switches():
    """Two switches with three ports each, of which the third one leads to the other switch."""
    made = []
    for number in (1, 2):
        device = add_device(f"127.0.9.{number}", name=f"sw-{number}", kind="v2c", secret={"community": "word"})
        Device.objects.filter(pk=device.pk).update(base_mac=f"02:00:00:00:00:0{number}")
        for index in (1, 2, 3):
            Interface.objects.create(device=device, if_index=index, name=f"g{index}", label=f"g{index}")
        made.append(device)
    return made


def port(device, index):
    return Interface.objects.get(device=device, if_index=index)


def bridge(*entries, **more):
    """A bridge that hears these: a MAC address, an ifIndex and maybe a VLAN each."""
    rows = [(mac_number(mac), index, *(vlan or (10,))) for mac, index, *vlan in entries]
    return Bridge(forwarding=Forwarding.of(rows), **more)


def look(device, minutes, told=None, addresses=None, problem=""):
    return looks.keep(device.pk, Looked(at(minutes), 3.0, 9, None, problem, told, addresses))


def where(words, minutes=0):
    when = at(minutes)
    return stations.whereabouts(stations.macs_of(words, when), when)


def test_a_station_is_where_it_is_heard_and_was_where_it_was(switches):
    one, other = switches
    look(one, 0, bridge((DESK, 1), (PRINTER, 2)))
    look(other, 1, bridge())
    (found,) = where(DESK, 2)
    assert (found.here.interface, found.here.vlan, found.here.since) == (port(one, 1).pk, 10, at(0))
    look(one, 5, bridge((PRINTER, 2)))
    look(other, 6, bridge((DESK, 2)))
    (found,) = where(DESK, 7)
    assert (found.here.interface, found.here.since) == (port(other, 2).pk, at(6))
    assert [(each.interface, each.since, each.gone_at) for each in found.before] == [(port(one, 1).pk, at(0), at(5))]
    (then,) = where(DESK, 3)
    assert then.here.interface == port(one, 1).pk, "the past shows it as it was"


def test_one_that_only_kept_still_was_there_all_the_time_and_one_that_came_back_from_elsewhere_was_not(switches):
    one, _ = switches
    for minutes, entries in ((0, [(DESK, 1)]), (5, []), (20, [(DESK, 1)])):
        look(one, minutes, bridge(*entries))
    assert [(row.since, row.gone_at) for row in Station.objects.all()] == [(at(0), None)]
    for minutes, index in ((25, 2), (30, 1)):
        look(one, minutes, bridge((DESK, index)))
    assert Station.objects.count() == 3


def test_after_a_look_that_failed_everything_is_as_it_was(switches):
    one, _ = switches
    look(one, 0, bridge((DESK, 1)))
    look(one, 5, problem="forwarding table: no answer")
    assert Station.objects.get().gone_at is None
    kept = NeighbourLook.objects.get(device=one)
    assert (kept.stations, kept.problem) == (1, "forwarding table: no answer")


def test_whoever_is_behind_a_link_is_at_no_port_of_it(switches):
    one, other = switches
    look(one, 0, bridge((DESK, 3), ("02:00:00:00:00:02", 3)))
    look(other, 1, bridge((DESK, 1), ("02:00:00:00:00:01", 3)))
    (found,) = where(DESK, 2)
    assert found.here.interface == port(other, 1).pk, "the port with fewest others"
    assert inferring.infer_links() == 1
    (link,) = queries.links_at(datetime.now(UTC))
    assert link.link.evidence is Evidence.FORWARDING
    assert {link.link.a.port, link.link.b.port} == {port(one, 3).pk, port(other, 3).pk}
    look(one, 5, bridge((DESK, 3), ("02:00:00:00:00:02", 3)))
    assert not Station.objects.filter(interface=port(one, 3), gone_at=None).exists()
    assert inferring.infer_links() == 0, "working it out again changes nothing"
    look(one, 10, bridge())
    look(other, 11, bridge())
    assert inferring.infer_links() == 1
    (lost,) = queries.links_at(datetime.now(UTC), lost_for=queries.LOST_FOR)
    assert lost.lost_at is not None


def test_an_address_leads_to_where_its_station_is(switches):
    one, router = switches
    look(one, 0, bridge((DESK, 1)))
    told = Addresses(
        (OwnAddress(1, "192.0.2.1", 24),), (Binding(1, "192.0.2.9", DESK), Binding(1, "2001:db8::9", DESK))
    )
    look(router, 1, addresses=told)
    for words in ("192.0.2.9", "2001:DB8::9", DESK.upper().replace(":", "-")):
        (found,) = where(words, 2)
        assert found.here.interface == port(one, 1).pk
        assert found.addresses == ["192.0.2.9", "2001:db8::9"]
    assert where("192.0.2.77", 2) == [] and where("what", 2) == []
    look(router, 5, addresses=Addresses((), (Binding(1, "192.0.2.9", PRINTER),)))
    assert [each.mac for each in where("192.0.2.9", 6)] == [PRINTER, DESK], "who has it now comes first"


def test_roots_and_roles_that_change_are_news_and_the_first_ones_are_not(switches):
    one, _ = switches

    def tree(root, role, changes):
        return SpanningTree(f"32768 02:00:00:00:00:0{root}", 3, 2000, changes, {3: role})

    look(one, 0, bridge(tree=tree(1, Role.ROOT, 10), ports={3: PortVlans(1, (10, 20), ())}))
    topology = Entry.objects.filter(kind="topology")
    assert not topology.exists()
    look(one, 30, bridge(tree=tree(2, Role.ALTERNATE, 40), ports={3: PortVlans(1, (10,), ())}))
    kept = KeptBridge.objects.get()
    assert (kept.root_since, kept.changes_per_hour, kept.root_interface) == (at(30), 60.0, port(one, 3))
    texts = sorted(topology.values_list("text", flat=True))
    assert texts == [
        "sw-1: another spanning-tree root: 32768 02:00:00:00:00:02 (was 32768 02:00:00:00:00:01)",
        "sw-1: g3 is alternate in the spanning tree (was root)",
    ]
    layer2 = PortLayer2.objects.get(interface=port(one, 3))
    assert (layer2.tagged, layer2.stp_role, layer2.stp_since) == ([10], "alternate", at(30))


def test_a_counter_of_topology_changes_that_began_anew_is_not_a_storm(switches):
    one, _ = switches
    for minutes, changes in ((0, 5000), (60, 7)):
        look(one, minutes, bridge(tree=SpanningTree("32768 02:00:00:00:00:01", changes=changes)))
    assert KeptBridge.objects.get().changes_per_hour == 7


def test_members_of_an_aggregate_lead_where_it_leads(switches):
    one, other = switches
    look(one, 0, bridge(aggregates={1: 3, 2: 3}))
    assert set(PortLayer2.objects.values_list("interface", "aggregate")) >= {
        (port(one, 1).pk, port(one, 3).pk), (port(one, 2).pk, port(one, 3).pk),
    }  # fmt: skip

    by_hand.add(End(one.pk, port(one, 1).pk), End(other.pk, port(other, 3).pk), "", "somebody")
    assert stations.link_ports(one.pk) == {port(one, 1).pk, port(one, 3).pk}


def test_what_was_somewhere_long_ago_is_forgotten(switches):
    one, _ = switches
    look(one, -60 * 24 * 100, bridge((DESK, 1)))
    look(one, -60 * 24 * 95, bridge((PRINTER, 1)))
    look(one, 0, bridge((PRINTER, 1)))
    assert stations.forget(NOW) == 1
    assert Station.objects.get().mac == PRINTER
