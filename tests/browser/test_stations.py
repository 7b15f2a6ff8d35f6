"""Where something is, the expected topology and changes of ports, in a real browser."""

from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect

from bench.ports import free_port
from lumtar.core.topology import End, Identifier
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.addressing import Addresses, Binding, OwnAddress
from lumtar.core.topology.bridging import Bridge, Forwarding, PortVlans
from lumtar.core.topology.identifiers import IdKind
from lumtar.core.topology.macs import mac_number
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.topology import by_hand, looks
from lumtar.domain.topology.looks import Looked
from tests.browser.conftest import settled, sign_in

pytestmark = pytest.mark.django_db(transaction=True)
DESK, FAR = "02:01:00:00:00:01", "02:01:00:00:00:02"


def told(name, port):
    return Told(1, "g1", Identifier(IdKind.LOCAL, name), Identifier(IdKind.NAME, port), "", name)


@pytest.fixture
def peopled(network):
    """Two devices that are joined at their first ports, with a station each at a port, and gateways of their own."""
    at = datetime.now(UTC) - timedelta(hours=2)
    ends = [End(each.pk, Interface.objects.get(device=each, if_index=1).pk) for each in network]
    by_hand.add(*ends, "", "anna")
    for place, (device, mac) in enumerate(zip(network, (DESK, FAR), strict=True), 1):
        bridge = Bridge(
            forwarding=Forwarding.of([(mac_number(mac), 2, 10)]),
            vlans={10: "Staff"},
            ports={2: PortVlans(10, (), (10,))},
        )
        own = Addresses((OwnAddress(1, f"10.{place}.0.1", 24),), (Binding(1, f"10.{place}.0.9", mac),))
        looks.keep(device.pk, Looked(at, 3.0, 9, [], "", bridge, own))
    return network


def test_from_a_mac_address_to_its_port_in_two_steps(page, peopled):
    sign_in(page, "/")
    page.keyboard.press("/")
    page.get_by_placeholder("A name, address, MAC address, port label, or a view").fill("0201.0000.0001")
    page.get_by_role("option").filter(has_text=DESK).click()
    where = page.get_by_role("region", name=f"Where {DESK} is")
    expect(where).to_contain_text("is at hex-wan-1")
    expect(where).to_contain_text("VLAN 10 Staff")
    where.get_by_role("link").nth(2).click()
    expect(page.get_by_role("region", name="Stations at this port")).to_contain_text(f"{DESK} 10.1.0.9")


def test_the_way_between_two_addresses_over_their_gateways(page, peopled):
    sign_in(page, "/map")
    settled(page)
    form = page.get_by_role("form", name="The way between two ends")
    form.get_by_label("From").fill("10.1.0.9")
    form.get_by_label("To").fill("10.2.0.9")
    form.get_by_label("To").press("Enter")
    way = page.get_by_role("region", name="The way")
    expect(way).to_contain_text("The way from 10.1.0.9 to 10.2.0.9")
    expect(way).to_contain_text(f"{DESK} is at hex-wan-1")
    expect(way.get_by_role("row")).to_have_count(2)
    form.get_by_label("From").fill("10.9.9.9")
    form.get_by_label("To").press("Enter")
    expect(way).to_contain_text("Nothing is known that is called 10.9.9.9")


def test_what_is_there_is_accepted_as_expected(page, network):
    one, other = network
    begun = datetime.now(UTC) - timedelta(hours=5)
    looks.keep(one.pk, Looked(begun, 3.0, 5, [told(other.name, "g1")]))
    looks.keep(one.pk, Looked(begun + timedelta(hours=4), 3.0, 5, [told("stranger", "eth0")]))
    sign_in(page, "/fleet?list=links")
    expected = page.get_by_role("region", name="Expected topology")
    expect(expected).to_contain_text("sees stranger; expected is sal-acc-1")
    expected.get_by_role("button", name="accept").click()
    expect(expected).to_contain_text("What is seen is what is expected.")
    expected.get_by_role("button", name="do not freeze it any more").click()
    expect(expected).to_contain_text("sees stranger")


def test_a_change_is_refused_while_read_only_and_told_of_when_it_fails(page, network):
    device = network[0]
    Device.objects.filter(pk=device.pk).update(address="127.0.0.1", port=free_port())
    port = Interface.objects.get(device=device, if_index=1)
    sign_in(page, f"/fleet/port/{port.pk}")
    page.get_by_role("button", name="change on the device").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Lumtar is read-only")
    dialog.get_by_role("link", name="Credentials").click()
    page.get_by_role("button", name="allow writing").click()
    expect(page.get_by_role("region", name="Writing to devices")).to_contain_text("Writing is allowed. Engineers can")
    credentials.create("Write", "v2c", {"community": "word"}, is_for_writing=True)
    page.goto(f"/fleet/port/{port.pk}")
    page.get_by_role("button", name="change on the device").click()
    dialog.get_by_label("switch the port off").check()
    expect(dialog.get_by_role("region", name="If it fails")).to_be_visible()
    dialog.get_by_label("Why").fill("cabling of the room")
    dialog.get_by_role("button", name="Do it now").click()
    expect(dialog.get_by_role("status")).to_contain_text("Not done")
