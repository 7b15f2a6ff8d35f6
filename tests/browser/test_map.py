"""The map in a real browser: from the whole network to a port, found, arranged, read as a table, and as it was."""

import re
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect

from lumtar.core.controllers import SignIn
from lumtar.core.topology import End
from lumtar.domain.controllers import services
from lumtar.domain.controllers.models import Controller, ControllerItem, ControllerProfile
from lumtar.domain.inventory.models import Interface
from lumtar.domain.topology import by_hand
from lumtar.domain.topology.models import ManualLink, MapPosition
from tests.browser.conftest import settled, sign_in
from tests.lab.overlay import LISTS

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def joined(network):
    """The first ports of both devices are joined."""
    ends = [End(device.pk, Interface.objects.get(device=device, if_index=1).pk) for device in network]
    return by_hand.add(*ends, "", "anna")


def the_map(page):
    return page.get_by_role("group", name=re.compile("^Map of"))


def beside(page):
    return page.get_by_role("complementary", name="Beside the map")


def test_from_the_whole_network_to_a_port(page, network, joined):
    sign_in(page, "/map")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Whole network 2 sites, 1 link")
    expect(beside(page)).to_contain_text("Busiest links")
    page.get_by_role("button", name="hex-wan-1 g1 – sal-acc-1 g1").click()
    expect(beside(page)).to_contain_text("sends 950 Mb/s, 95 %")
    expect(beside(page)).to_contain_text("entered by hand")
    beside(page).get_by_role("link", name="g1, Transport A").first.click()
    expect(page).to_have_url(re.compile("/fleet/port/"))
    page.go_back()
    expect(beside(page)).to_contain_text("sends 950 Mb/s, 95 %")


def test_the_overlay_over_the_map(page, network, joined):
    one, other = network
    profile = services.keep_profile(ControllerProfile(name="County overlay"), SignIn(), LISTS, "anna")
    made = services.keep_controller(Controller(name="Manager", base="https://127.0.9.9", profile=profile), "anna")
    for number, is_up in enumerate((True, False), 1):
        facts = {"state": "up" if is_up else "down", "transport": "A"}
        ControllerItem.objects.create(
            controller=made, kind="tunnel", key=f"t{number}", name=f"tunnel {number}", facts=facts, up=is_up, device=one, peer=other
        )  # fmt: skip
    sign_in(page, "/map")
    page.get_by_label("tunnels").click()
    tunnels = beside(page).get_by_role("region", name="Tunnels")
    expect(tunnels).to_contain_text("2, of which 1 is down")
    expect(tunnels).to_contain_text("tunnel 2")
    expect(tunnels).not_to_contain_text("tunnel 1")
    expect(page.get_by_text("tunnel that is down")).to_be_visible()
    settled(page)
    the_map(page).focus()
    page.keyboard.press("ArrowRight")
    expect(tunnels).to_contain_text("of Hexwater: 2")
    expect(tunnels).to_contain_text("tunnel 1")


def test_with_the_keyboard_alone(page, network, joined):
    sign_in(page, "/map")
    settled(page)
    the_map(page).focus()
    page.keyboard.press("ArrowRight")
    expect(the_map(page)).to_have_attribute("aria-label", re.compile("; Hexwater$"))
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Hexwater 1 device, 1 link")
    expect(page).to_have_url(re.compile("site=Hexwater"))
    page.keyboard.press("Escape")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Whole network")
    page.keyboard.press("f")
    page.keyboard.type("salt")
    page.keyboard.press("Enter")
    expect(beside(page).get_by_role("heading", name="Saltby")).to_be_visible()


def test_what_is_under_the_pointer_and_a_click_on_it(page, network, joined):
    sign_in(page, "/map?show=devices")
    settled(page)
    area = the_map(page).bounding_box()
    # Two cards stand on one line: the link is in the middle.
    page.mouse.move(area["x"] + area["width"] / 2, area["y"] + area["height"] / 2)
    expect(the_map(page)).to_contain_text("hex-wan-1 g1 – sal-acc-1 g1")
    expect(the_map(page)).to_contain_text("1.0 Gb/s, up")
    page.mouse.click(area["x"] + area["width"] / 2, area["y"] + area["height"] / 2)
    expect(beside(page).get_by_role("heading", name="hex-wan-1 g1 – sal-acc-1 g1")).to_be_visible()
    beside(page).get_by_role("button", name="Remove the link by hand").click()
    expect(page.get_by_text("No links are known between these.")).to_be_visible()
    assert ManualLink.objects.get().gone_at is not None


def test_a_card_is_moved_for_oneself_and_for_everybody(page, network, joined):
    sign_in(page, "/map?show=devices")
    settled(page)
    page.get_by_role("checkbox", name="arrange").click()
    expect(page.get_by_role("checkbox", name="arrange")).to_be_checked()
    page.get_by_label("Find on the map").fill("sal-acc")
    page.keyboard.press("Enter")
    expect(beside(page).get_by_role("heading", name="sal-acc-1")).to_be_visible()
    key = f"device-{network[1].pk}"
    before = MapPosition.objects.get(node=key, person=None)
    area = the_map(page).bounding_box()
    # What was found stands in the middle.
    page.mouse.move(area["x"] + area["width"] / 2, area["y"] + area["height"] / 2)
    page.mouse.down()
    page.mouse.move(area["x"] + area["width"] / 2 + 120, area["y"] + area["height"] / 2 + 150, steps=5)
    with page.expect_response("**/api/v1/map/own"):
        page.mouse.up()
    own = MapPosition.objects.get(node=key, person__username="demo")
    assert own.y > before.y + 80 and own.x > before.x + 60
    with page.expect_response("**/api/v1/map/shared"):
        page.get_by_role("button", name="keep for everybody").click()
    assert MapPosition.objects.get(node=key, person=None).y == pytest.approx(own.y, abs=1)


def test_as_a_table_and_as_it_was(page, network, joined):
    ManualLink.objects.update(since=datetime.now(UTC) - timedelta(minutes=30))
    sign_in(page, "/map?table=1")
    row = page.get_by_role("row", name=re.compile("hex-wan-1"))
    expect(row).to_contain_text("950 Mb/s · 95 %")
    then = datetime.now(UTC) - timedelta(hours=1)
    span = f"from={(then - timedelta(minutes=20)):%Y-%m-%dT%H:%M:%SZ}&to={then:%Y-%m-%dT%H:%M:%SZ}"
    page.goto(f"/map?table=1&{span}")
    expect(page.get_by_role("heading", level=1)).to_contain_text("0 links, as at")
    expect(row).to_have_count(0)


def test_the_map_as_files(page, network, joined):
    sign_in(page, "/map")
    settled(page)
    with page.expect_download() as svg:
        page.get_by_role("button", name="SVG").click()
    text = svg.value.path().read_text()
    assert svg.value.suggested_filename == "map-sites.svg" and ">Hexwater</text>" in text
    with page.expect_download() as png:
        page.get_by_role("button", name="PNG").click()
    assert png.value.path().read_bytes().startswith(b"\x89PNG")


def test_links_are_entered_as_lines_and_wrong_ones_say_why(page, network):
    sign_in(page, "/fleet?list=links")
    page.get_by_role("button", name="enter links by hand").click()
    lines = page.get_by_label("Links by hand", exact=False).locator("textarea")
    lines.press("Control+End")
    lines.type("hex-wan-1,g1,sal-acc-1,g9\n")
    expect(page.get_by_text("Line 2, hex-wan-1 g1 – sal-acc-1 g9: sal-acc-1 has no port called g9.")).to_be_visible()
    page.get_by_role("button", name="Add these links").click()
    expect(page.get_by_role("alert").filter(has_text="Nothing was added")).to_be_visible()
    lines.fill("from_device,from_port,to_device,to_port\nhex-wan-1,g1,sal-acc-1,g2\n")
    expect(page.get_by_text("1 link would be added.")).to_be_visible()
    page.get_by_role("button", name="Add these links").click()
    expect(page.get_by_text("entered by hand")).to_be_visible()
    assert ManualLink.objects.count() == 1


def test_the_way_between_two_devices(page, network, joined):
    sign_in(page, "/map?show=devices")
    form = page.get_by_role("form", name="The way between two ends")
    form.get_by_label("From").fill("hex-wan-1")
    form.get_by_label("To").fill("nobody")
    form.get_by_role("button", name="Show the way").click()
    expect(page.get_by_text("Nothing is known that is called nobody")).to_be_visible()
    way = page.get_by_role("region", name="The way")
    way.get_by_label("To").fill("127.0.0.2")
    way.get_by_role("button", name="Show the way").click()
    expect(way.get_by_role("heading", level=2)).to_contain_text("The way from hex-wan-1 to sal-acc-1")
    expect(way.get_by_role("row", name=re.compile("hex-wan-1 g1"))).to_contain_text("95 %")
    expect(way).to_contain_text("No second way is known.")
    way.get_by_role("button", name="close").click()
    expect(way).to_have_count(0)
