"""What goes wrong with links, devices and power: from Now to the faulty port in two steps, with what follows folded beneath."""

import re
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect

from lumtar.core.alarms.severity import Severity
from lumtar.core.topology import End
from lumtar.core.topology.addressing import Addresses, OwnAddress
from lumtar.core.topology.bridging import Bridge, Forwarding
from lumtar.core.topology.macs import mac_number
from lumtar.core.topology.routing import Route
from lumtar.core.topology.wireless import AccessPoint, Client, Wireless
from lumtar.domain.alarms import power
from lumtar.domain.alarms.models import Alarm, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Device, DeviceState, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.services import announce
from lumtar.domain.topology import by_hand, looks
from lumtar.domain.topology.looks import Looked
from tests.alarms import transition
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)
SILENT = "Does not answer: no answer on UDP 1161 in 3 tries"
HALL, PHONE = "02:01:00:00:00:01", "02:02:00:00:00:09"


@pytest.fixture
def chain(network):
    """sal-acc-1 leads to hex-wan-1, and that to a switch of its own site; only the first two answer."""
    wan, acc = network
    leaf = add_device("127.0.0.3", name="hex-acc-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    Interface.objects.bulk_create(Interface(device=leaf, if_index=n, name=f"g{n}", label=f"g{n}") for n in (1, 2))
    ends = [
        (End(acc.pk, port(acc, 2).pk), End(wan.pk, port(wan, 2).pk)),
        (End(wan.pk, port(wan, 3).pk), End(leaf.pk, port(leaf, 1).pk)),
    ]
    for one, other in ends:
        by_hand.add(one, other, "", "anna")
    answered = datetime.now(UTC) + timedelta(hours=1)
    for device in (wan, acc, leaf):
        DeviceState.objects.update_or_create(device=device, defaults={"reach": "answers", "answered_at": answered})
    # What stood before is not what is looked at here.
    Alarm.objects.all().delete()
    return wan, acc, leaf


def port(device, index):
    return Interface.objects.get(device=device, if_index=index)


def fails(*what):
    """Alarms of devices that do not answer, or of ports that are down; the screens are told."""
    rule = Rule.objects.get(name="Reachability")
    told = [
        transition(each[0], Severity.MAJOR, "Down", interface=each[1], type="down", rule=rule)
        if isinstance(each, tuple)
        else transition(each, Severity.CRITICAL, SILENT, rule=rule)
        for each in what
    ]
    announce("alarms", apply(told))


def test_a_pulled_cable_is_one_alarm_that_leads_to_its_port(page, chain):
    wan, _, leaf = chain
    sign_in(page)
    expect(page.get_by_role("heading", level=1)).to_contain_text("All is well")
    fails(leaf, (wan, port(wan, 3)))
    expect(page.get_by_role("heading", level=1)).to_contain_text("hex-wan-1 g3 down")
    cause = page.locator("a[data-row]")
    expect(cause).to_have_count(1)
    expect(cause).to_contain_text("1 consequence")
    cause.click()
    expect(page.get_by_role("article")).to_contain_text("hex-acc-1")
    page.get_by_role("main").get_by_role("link", name="Port", exact=True).click()
    expect(page).to_have_url(re.compile(f"/fleet/port/{port(wan, 3).pk}"))


def test_a_device_that_fails_explains_what_hangs_on_it(page, chain):
    wan, acc, leaf = chain
    # At another site: one that is silent as a whole is told of as such.
    Device.objects.filter(pk=leaf.pk).update(site=acc.site)
    sign_in(page)
    fails(leaf)
    expect(page.get_by_role("heading", level=1)).to_contain_text("hex-acc-1 does not answer")
    fails(wan)
    expect(page.get_by_role("heading", level=1)).to_contain_text("hex-wan-1 does not answer")
    expect(page.locator("a[data-row]")).to_have_count(1)


def test_a_site_without_power_is_named(page, chain):
    wan, _, leaf = chain
    sign_in(page)
    power.note_last_gasps({leaf.pk: datetime.now(UTC)})
    fails(wan, leaf)
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "Hexwater fell silent as a whole, two devices: its power is gone"
    )
    page.locator("a[data-row]").first.click()
    expect(page.get_by_role("main")).to_contain_text("1 of them said that they were losing their power")


@pytest.fixture
def wireless(chain):
    """An access point at the switch, with a client; the router has routes."""
    wan, _, leaf = chain
    at = datetime.now(UTC) - timedelta(minutes=5)
    table = Forwarding.of([(mac_number(HALL), 2, 40)])
    looks.keep(leaf.pk, Looked(at, 3.0, 9, None, "", Bridge(forwarding=table)))
    told = Wireless(
        [AccessPoint("1", "hall", HALL, "10.0.40.1", "A4", True)], [Client(PHONE, "1", "Public", "10.255.0.9", -67)]
    )
    routes = [Route("10.1.0.0/16", "", 1, "connected", 0), Route("0.0.0.0/0", "10.2.0.1", 2, "BGP", 5)]
    own = Addresses((OwnAddress(1, "10.1.0.1", 16),))
    looks.keep(wan.pk, Looked(at, 3.0, 9, addresses=own, routes=routes, wireless=told))
    return chain


def test_from_a_wireless_client_to_the_port_of_its_access_point(page, wireless):
    sign_in(page, "/")
    page.keyboard.press("/")
    page.get_by_placeholder("A name, address, MAC address, port label, or a view").fill("10.255.0.9")
    page.get_by_role("option").filter(has_text=PHONE).click()
    where = page.get_by_role("region", name=f"Where {PHONE} is")
    expect(where).to_contain_text("is in Public at access point hall, −67 dBm")
    where.get_by_role("link", name="hall").click()
    expect(page.get_by_role("region", name="Clients of hall")).to_contain_text(PHONE)
    page.get_by_role("link", name="hex-acc-1", exact=True).first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("hex-acc-1")


def test_one_wireless_network_alone_on_the_map(page, wireless):
    sign_in(page, "/map?show=devices")
    expect(page.get_by_role("heading", level=1)).to_contain_text("3 devices, 2 links")
    page.get_by_label("only").select_option("wireless network Public")
    expect(page.get_by_role("heading", level=1)).to_contain_text("2 devices, 1 access point, 2 links")
    page.get_by_label("as a table").click()
    expect(page.get_by_role("row").filter(has_text="hall")).to_contain_text("follows from forwarding tables")


def test_where_a_router_sends_a_packet(page, wireless):
    wan, _, _ = wireless
    sign_in(page, f"/fleet/device/{wan.pk}")
    routes = page.get_by_role("region", name="Routes")
    expect(routes).to_contain_text("10.1.0.0/16")
    routes.get_by_label("a packet to").fill("198.51.100.7")
    expect(routes).not_to_contain_text("10.1.0.0/16")
    expect(routes).to_contain_text("0.0.0.0/0")
    expect(routes).to_contain_text("10.2.0.1 over g2 BGP, metric 5")
    routes.get_by_label("a packet to").fill("198.51.100")
    expect(routes.get_by_role("alert")).to_contain_text("198.51.100 is not an address")
