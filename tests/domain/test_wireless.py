"""Access points and wireless clients over time: who is where and was before, where access points are plugged in."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.topology import Identifier
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.bridging import Bridge, Forwarding
from lumtar.core.topology.identifiers import IdKind
from lumtar.core.topology.macs import mac_number
from lumtar.core.topology.wireless import AccessPoint as Point
from lumtar.core.topology.wireless import Client, Wireless
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.reports import access_points
from lumtar.domain.topology import looks, stations, wireless
from lumtar.domain.topology.looks import Looked
from lumtar.domain.topology.models import AccessPoint, NeighbourLook, WirelessClient

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0)
ANNA, BERT = "02:02:00:00:00:01", "02:02:00:00:00:02"
HALL, DESK = (
    Point(str(n), name, f"02:01:00:00:00:0{n}", f"10.0.40.{n}", "A4", True) for n, name in ((1, "hall"), (2, "desk"))
)
MINUTE = timedelta(minutes=1)


def at(minutes):
    return NOW + minutes * MINUTE


@pytest.fixture
def controller():
    return add_device("127.0.9.1", name="wlc", kind="v2c", secret={"community": "word"})


@pytest.fixture
def switch():
    made = add_device("127.0.9.2", name="sw", site="Hexwater", kind="v2c", secret={"community": "word"})
    for index in (1, 2):
        Interface.objects.create(device=made, if_index=index, name=f"g{index}", label=f"g{index}")
    return made


def look(device, minutes, points=(HALL, DESK), clients=(), problem=""):
    told = None if problem else Wireless(points, clients)
    return looks.keep(device.pk, Looked(at(minutes), 3.0, 9, problem=problem, wireless=told))


def client(mac, point="1", network="Public", signal=-60, address="10.255.0.9"):
    return Client(mac, point, network, address, signal)


def here(minutes):
    rows = wireless.clients_at(at(minutes)).order_by("mac")
    return [(row.mac, row.access_point.name, row.network) for row in rows.select_related("access_point")]


def test_who_is_where_and_was_before(controller):
    assert look(controller, -30, clients=[client(ANNA), client(BERT, "2", "Staff")])
    look(controller, -20, clients=[client(ANNA, "2"), client(BERT, "2", "Staff", -71)])
    assert here(0) == [(ANNA, "desk", "Public"), (BERT, "desk", "Staff")]
    assert here(-25) == [(ANNA, "hall", "Public"), (BERT, "desk", "Staff")]
    assert here(-31) == []
    stays = wireless.stays_of([ANNA], at(0))[ANNA]
    assert [(each.access_point.name, each.gone_at) for each in stays] == [("desk", None), ("hall", at(-20))]
    assert [each.since for each in wireless.stays_of([ANNA], at(-25))[ANNA]] == [at(-30)]
    bert = WirelessClient.objects.get(mac=BERT)
    assert bert.since == at(-30) and bert.signal_dbm == -71, "the signal is the newest one"
    assert wireless.networks(at(0)) == [("Public", 1), ("Staff", 1)]
    assert stations.macs_of("10.255.0.9", at(0)) == [ANNA, BERT]
    assert NeighbourLook.objects.get(device=controller).clients == 2


def test_one_that_was_away_for_a_moment_was_there_all_the_time(controller):
    look(controller, -30, clients=[client(ANNA)])
    look(controller, -25)
    look(controller, -20, clients=[client(ANNA)])
    assert [each.since for each in WirelessClient.objects.all()] == [at(-30)]
    look(controller, -19, clients=[client(ANNA, "2")])
    look(controller, -18, clients=[client(ANNA)])
    assert WirelessClient.objects.filter(gone_at=None).get().since == at(-18), "it was elsewhere meanwhile"


def test_after_a_look_that_failed_everything_is_as_it_was(controller):
    look(controller, -30, clients=[client(ANNA)])
    look(controller, -20, problem="wireless clients: no answer")
    assert here(0) == [(ANNA, "hall", "Public")]
    assert NeighbourLook.objects.get(device=controller).clients == 1


def test_access_points_that_leave_their_controller_are_news(controller):
    look(controller, -30)
    assert not Entry.objects.filter(device=controller, text__startswith="access point"), "the first look is no news"
    away = Point("1", "hall", HALL.mac, HALL.address, "A4", False)
    assert look(controller, -20, points=(away, DESK))
    assert AccessPoint.objects.get(name="hall").changed_at == at(-20)
    assert not look(controller, -15, points=(away, DESK)), "nothing is another than before"
    look(controller, -10, points=(HALL,))
    told = list(
        Entry.objects.filter(device=controller, kind=Entry.Kind.TOPOLOGY)
        .order_by("at", "pk")
        .values_list("text", flat=True)
    )
    assert told == [
        "access point hall left its controller",
        "access point hall joined its controller",
        "access point desk is not listed by its controller any more",
    ]
    assert [row.point.name for row in access_points.find()] == ["hall"]
    assert [row.point.name for row in access_points.find(at(-12))] == ["desk", "hall"]
    look(controller, -5)
    assert AccessPoint.objects.get(name="desk").gone_at is None


def test_many_at_once_are_one_piece_of_news(controller):
    points = [Point(str(number), f"ap-{number}", is_up=True) for number in range(20)]
    look(controller, -30, points)
    look(controller, -20, [Point(each.key, each.name, is_up=False) for each in points])
    (only,) = Entry.objects.filter(device=controller, kind=Entry.Kind.TOPOLOGY)
    assert only.text == "20 access points joined or left their controller"


def test_a_client_at_an_access_point_that_is_not_listed_is_at_the_device_itself(controller):
    look(controller, -30, points=(), clients=[client(ANNA, "")])
    assert here(0) == [(ANNA, "wlc", "Public")]
    (row,) = access_points.find()
    assert row.device == controller.pk and row.networks == {"Public": 1}
    look(controller, -20, points=(), clients=[])
    assert here(0) == [] and AccessPoint.objects.get().gone_at is None


def test_an_access_point_is_at_the_port_where_the_switch_hears_it(controller, switch):
    look(controller, -30, clients=[client(ANNA)])
    table = Forwarding.of([(mac_number(HALL.mac), 1, 40)])
    looks.keep(switch.pk, Looked(at(-20), 3.0, 9, [], "", Bridge(forwarding=table)))
    rows = {row.point.name: row for row in access_points.find()}
    port = Interface.objects.get(device=switch, if_index=1)
    assert rows["hall"].plugged_in.interface == port.pk and rows["hall"].plugged_in.since == at(-20)
    assert rows["desk"].plugged_in is None and rows["hall"].clients == 1
    assert access_points.find(at(-25))[1].plugged_in is None, "nobody had heard it then"
    told = Told(2, "g2", Identifier(IdKind.MAC, HALL.mac), Identifier(IdKind.NAME, "eth0"))
    looks.keep(switch.pk, Looked(at(-10), 3.0, 9, [told], "", Bridge(forwarding=table)))
    seen = next(row for row in access_points.find() if row.point.name == "hall")
    assert seen.plugged_in.interface != port.pk, "what it says by LLDP is surer"


def test_an_access_point_that_is_in_the_inventory_is_that_device(controller):
    device = add_device("127.0.9.3", name="hall-device", kind="v2c", secret={"community": "word"})
    Device.objects.filter(pk=device.pk).update(base_mac=HALL.mac)
    look(controller, -30)
    assert {row.point.name: row.device for row in access_points.find()} == {"hall": device.pk, "desk": None}
    assert [row.point.name for row in access_points.find(words="10.0.40.2 wlc")] == ["desk"]


def test_what_was_long_ago_is_forgotten(controller):
    look(controller, -30, clients=[client(ANNA), client(BERT)])
    look(controller, -20, points=(HALL,), clients=[client(ANNA)])
    later = NOW + stations.KEPT
    assert wireless.forget(later) == 2
    assert WirelessClient.objects.get().mac == ANNA and AccessPoint.objects.get().name == "hall"
