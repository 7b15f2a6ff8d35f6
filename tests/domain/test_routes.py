"""Routes over time, and the way between two ends that packets take by them."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.topology.addressing import Addresses, OwnAddress
from lumtar.core.topology.routing import Route as Told
from lumtar.domain.inventory.models import Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.reports import routed
from lumtar.domain.reports.ends import Place
from lumtar.domain.topology import looks, routing
from lumtar.domain.topology.looks import Looked
from lumtar.domain.topology.models import NeighbourLook, Route

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)
BEFORE = NOW - timedelta(hours=1)


def router(number, own, routes, at=BEFORE):
    """A router r1, r2 … with ports g1 to g3; own addresses at ports, routes as (network, next hop, port)."""
    device = add_device(f"127.0.9.{number}", name=f"r{number}", kind="v2c", secret={"community": "word"})
    for index in (1, 2, 3):
        Interface.objects.create(device=device, if_index=index, name=f"g{index}", label=f"g{index}")
    addresses = Addresses(tuple(OwnAddress(port, address, length) for port, address, length in own))
    told = [Told(network, hop, port, "OSPF" if hop else "connected", 10 if hop else 0) for network, hop, port in routes]
    looks.keep(device.pk, Looked(at, 3.0, 9, addresses=addresses, routes=told))
    return device


@pytest.fixture
def three():
    """Networks 10.1/16 and 10.3/16 behind r1 and r3, with r2 between them."""
    return [
        router(
            1,
            [(1, "10.1.0.1", 16), (2, "10.12.0.1", 30)],
            [("10.1.0.0/16", "", 1), ("10.12.0.0/30", "", 2), ("0.0.0.0/0", "10.12.0.2", 2)],
        ),
        router(
            2,
            [(1, "10.12.0.2", 30), (2, "10.23.0.1", 30)],
            [("10.1.0.0/16", "10.12.0.1", 1), ("10.3.0.0/16", "10.23.0.2", 2), ("10.23.0.0/30", "", 2)],
        ),
        router(
            3,
            [(1, "10.3.0.1", 16), (2, "10.23.0.2", 30)],
            [("10.3.0.0/16", "", 1), ("0.0.0.0/0", "10.23.0.1", 2)],
        ),
    ]


def station(address, device=0):
    return Place(device, address, address=address)


def test_routes_are_kept_over_time(three):
    first = three[0]
    assert NeighbourLook.objects.get(device=first).routes == 3
    other = [Told("10.1.0.0/16", "", 1, "connected", 0), Told("0.0.0.0/0", "10.12.0.2", 3, "OSPF", 10)]
    assert looks.keep(first.pk, Looked(NOW, 3.0, 9, routes=other))
    assert not looks.keep(first.pk, Looked(NOW + timedelta(minutes=5), 3.0, 9, routes=other)), "all as before"
    then = routing.table_at(first.pk, NOW - timedelta(minutes=1)).find("10.12.0.1")
    now = routing.table_at(first.pk, NOW).find("10.12.0.1")
    assert (then[0].network, now[0].network) == ("10.12.0.0/30", "0.0.0.0/0")
    assert now[0].if_index == Interface.objects.get(device=first, if_index=3).pk
    looks.keep(first.pk, Looked(NOW + timedelta(minutes=9), 3.0, 9, problem="routes: no answer"))
    assert Route.objects.filter(device=first, gone_at=None).count() == 2
    assert routing.forget(NOW + routing.KEPT + timedelta(minutes=1)) == 2


def test_too_many_routes_are_said_and_are_no_failure(three):
    note = "routes: there are more than the 20,000 that are read"
    looks.keep(three[0].pk, Looked(NOW, 3.0, 9, note=note))
    assert NeighbourLook.objects.get(device=three[0]).problem == note


def test_the_way_is_what_the_routes_say(three):
    found = routed.between(station("10.1.0.9"), station("10.3.0.9"), None)
    assert found.devices == [each.pk for each in three]
    assert list(found.notes) == [
        "10.1.0.0/16 is routed by r1 (10.1.0.1)",
        "r1 sends 0.0.0.0/0 (OSPF) over g2 to r2",
        "r2 sends 10.3.0.0/16 (OSPF) over g2 to r3",
        "r3 is in 10.3.0.0/16 itself over g1",
    ]
    assert found.leaving[three[1].pk] == Interface.objects.get(device=three[1], if_index=2).pk
    assert routed.between(station("10.1.0.9"), station("10.1.0.7"), None).notes == [
        "Both are in 10.1.0.0/16: nothing between them is routed"
    ]


def test_devices_are_ends_by_their_own_addresses(three):
    first, _, last = three
    found = routed.between(Place(first.pk, "r1"), Place(last.pk, "r3"), None)
    assert found.devices == [three[1].pk], "beside the ends themselves"


def test_a_way_back_that_is_another_one_is_told(three):
    last = three[2]
    around = router(4, [(1, "10.43.0.2", 30), (2, "10.12.0.9", 24)], [("10.1.0.0/16", "10.12.0.1", 2)])
    told = [Told("10.3.0.0/16", "", 1, "connected", 0), Told("0.0.0.0/0", "10.43.0.2", 3, "OSPF", 10)]
    looks.keep(last.pk, Looked(NOW, 3.0, 9, routes=told))
    found = routed.between(station("10.1.0.9"), station("10.3.0.9"), None)
    assert found.notes[-1] == "The way back is another one, by r3, r4, r1"
    assert around.pk not in found.devices


@pytest.mark.parametrize(
    ("routes", "said"),
    [
        ([Told("10.9.0.0/16", "10.12.0.1", 1, "OSPF", 1)], "r2 has no route to 10.3.0.9: packets end there"),
        ([Told("10.0.0.0/8", "", 0, "static", 1, True)], "r2 drops what is for 10.0.0.0/8 (static)"),
        (
            [Told("10.3.0.0/16", "10.12.0.1", 1, "OSPF", 1)],
            "r2 sends 10.3.0.0/16 (OSPF) over g1 to r1, which has sent it here already: it goes round in circles",
        ),
        (
            [Told("10.3.0.0/16", "203.0.113.1", 2, "BGP", 1)],
            "r2 sends 10.3.0.0/16 (BGP) over g2 to 203.0.113.1, which is not in the inventory",
        ),
        (
            [Told("10.3.0.0/16", "10.23.0.2", 2, "OSPF", 1), Told("10.3.0.0/16", "10.99.0.2", 3, "OSPF", 1)],
            "r2 sends 10.3.0.0/16 (OSPF) over g2 to r3; as good: 10.99.0.2",
        ),
        ([], "r2 tells nothing of its routes"),
    ],
)
def test_what_is_wrong_on_the_way_is_told(three, routes, said):
    looks.keep(three[1].pk, Looked(NOW, 3.0, 9, routes=routes))
    found = routed.between(station("10.1.0.9"), station("10.3.0.9"), None)
    assert said in found.notes
    if not routes:
        assert found.devices[-1] == three[2].pk, "the gateway of the goal's network stands for what is not known"


def test_the_past_has_its_own_routes(three):
    looks.keep(three[1].pk, Looked(NOW, 3.0, 9, routes=[Told("10.3.0.0/16", "203.0.113.1", 2, "BGP", 1)]))
    then = routed.between(station("10.1.0.9"), station("10.3.0.9"), NOW - timedelta(minutes=1))
    assert then.devices == [each.pk for each in three]


def test_without_routes_the_gateways_of_both_networks_lead(three):
    Route.objects.all().delete()
    found = routed.between(station("10.1.0.9"), station("10.3.0.9"), None)
    assert found.devices == [three[0].pk, three[2].pk]
    assert found.notes == [
        "10.1.0.0/16 is routed by r1 (10.1.0.1)",
        "r1 tells nothing of its routes",
        "10.3.0.0/16 is routed by r3 (10.3.0.1)",
    ]
