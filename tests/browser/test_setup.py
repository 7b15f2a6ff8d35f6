"""Getting a network in, in a real browser."""

import re

import pytest
from playwright.sync_api import expect

from bench.ports import free_port
from lumtar.domain.inventory import credentials, services
from lumtar.domain.inventory.models import Credential, Device, Interface
from tests.browser.conftest import sign_in
from tests.lab.boxes import COMMUNITY
from tests.standins import standing_in

pytestmark = pytest.mark.django_db(transaction=True)


def test_a_credential_is_made_changed_and_never_shown(page, network):
    sign_in(page, "/setup/credentials")
    page.get_by_role("button", name="New credential").click()
    page.get_by_label("Name", exact=False).first.fill("Core")
    page.get_by_label("User").fill("anna")
    page.get_by_label("Authentication password").fill("authenticate-me")
    page.get_by_label("Privacy password").fill("short")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert").filter(has_text="at least 8 characters")).to_be_visible()
    page.get_by_label("Privacy password").fill("keep-it-private")
    page.get_by_role("button", name="Save").click()
    row = page.get_by_role("listitem").filter(has_text="Core")
    expect(row).to_contain_text("version 3, anna, sha256, aes128")
    expect(row).to_contain_text("everywhere")
    row.get_by_role("button", name="Core", exact=True).click()
    expect(page.get_by_label("Privacy password")).to_have_value("")
    page.get_by_label("by").nth(1).select_option("aes256")
    page.get_by_role("button", name="Save").click()
    expect(row).to_contain_text("aes256")
    secret = credentials.revealed(Credential.objects.get(name="Core"))
    assert (secret["priv"], secret["priv_password"]) == ("aes256", "keep-it-private")


def test_the_second_of_two_who_change_a_credential_is_told_and_keeps_what_was_typed(page, network):
    made = credentials.create("Core", "v2c", {"community": "word"})
    sign_in(page, "/setup/credentials")
    page.get_by_role("button", name="Core", exact=True).click()
    page.get_by_label("Name", exact=False).first.fill("Mine")
    credentials.change(made.pk, 1, name="Theirs", kind="v2c", secret={}, sites=(), by="bert")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert").filter(has_text="bert changed this meanwhile")).to_be_visible()
    expect(page.get_by_label("Name", exact=False).first).to_have_value("Mine")


def test_the_order_of_trying(page, network):
    for name in ("first", "second"):
        credentials.create(name, "v2c", {"community": name})
    sign_in(page, "/setup/credentials")
    page.get_by_role("button", name="Try earlier: second").click()
    expect(page.get_by_role("listitem").filter(has_text=re.compile("first|second")).first).to_contain_text("second")


def test_trying_says_what_went_wrong_and_nothing_can_be_added(page, network, loopback):
    sign_in(page, "/setup/add")
    page.get_by_label("Address").fill("no-such-host.invalid")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("'no-such-host.invalid' is not known here")).to_be_visible()
    expect(page.get_by_text("Nothing answered, so there is nothing to watch yet")).to_be_visible()
    page.get_by_label("Address").fill("10.0.0.0/8")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_role("alert").filter(has_text="a range, not one address")).to_be_visible()


def test_what_answers_only_echo_can_be_added_too(page, network, loopback):
    host = next(loopback)
    sign_in(page, "/setup/add")
    page.get_by_label("Address").fill(host)
    page.get_by_label("UDP port").fill(str(free_port()))
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_text("closed: the host answers, but nothing listens there").first).to_be_visible()
    page.get_by_role("button", name="Add, watched by ICMP echo").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("by ICMP echo")
    assert Device.objects.get(address=host).way == "icmp"


def test_a_list_is_checked_tried_added_and_what_is_left_stays(page, network, loopback):
    hosts, port = [next(loopback) for _ in range(2)], free_port()
    credentials.create("Right", "v2c", {"community": COMMUNITY})
    sign_in(page, "/setup/list")
    page.get_by_label("The list").fill(
        f"address,port,name,site\n{hosts[0]},{port},good,Hexwater\n127.0.0.300,,typo,\n{hosts[1]},{port},silent,"
    )
    expect(page.get_by_text("2 can be tried · 1 have a problem")).to_be_visible()
    expect(page.get_by_text("127.0.0.300 is not an IPv4 address.")).to_be_visible()
    with standing_in(port, hosts[0]):
        page.get_by_role("button", name="Try and add 2").click()
        expect(page.get_by_text("1 added · 1 did not answer · 1 have a problem")).to_be_visible(timeout=15_000)
    expect(page.get_by_role("link", name="added as good")).to_be_visible()
    page.get_by_role("button", name="Keep only what is left to mend").click()
    left = page.get_by_label("The list").input_value()
    assert left == f"address,port,name,site\n127.0.0.300,,typo,\n{hosts[1]},{port},silent,"
    assert Device.objects.filter(name="good", site__name="Hexwater").exists()


def test_a_device_is_changed_retired_restored_and_deleted(page, network):
    device = Device.objects.get(name="hex-wan-1")
    sign_in(page, f"/fleet/device/{device.pk}")
    page.get_by_role("button", name="change").click()
    form = page.locator("form")
    form.get_by_label("Name").fill("hex-wan-9")
    form.get_by_label("Tags").fill("owner=it; floor=2")
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("hex-wan-9")
    expect(page.get_by_text("floor", exact=True)).to_be_visible()
    page.get_by_role("button", name="retire").click()
    expect(page.get_by_text("Its history is kept, and it can be restored")).to_be_visible()
    page.get_by_role("button", name="Retire it").click()
    expect(page.get_by_text("not polled, its history is kept")).to_be_visible()
    page.goto("/setup/retired")
    page.get_by_role("link", name="hex-wan-9").click()
    page.get_by_role("button", name="restore").click()
    page.get_by_role("button", name="Restore", exact=True).click()
    expect(page.get_by_text("not polled, its history is kept")).not_to_be_visible()
    services.retire(device.pk, "anna")
    page.reload()
    page.get_by_role("button", name="delete").click()
    page.get_by_role("button", name="Delete permanently").click()
    expect(page.get_by_role("heading", level=1)).not_to_be_visible()
    assert not Device.objects.filter(pk=device.pk).exists()


def test_a_form_is_not_offered_before_its_choices_are_there(page, network):
    device = Device.objects.get(name="hex-wan-1")
    sign_in(page, f"/fleet/device/{device.pk}")
    held = []
    page.route("**/api/v1/profiles", lambda route: held.append(route))
    with page.expect_request("**/api/v1/profiles"):
        page.get_by_role("button", name="change").click()
    expect(page.get_by_role("button", name="Save")).to_have_count(0)
    held[0].continue_()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name="Save")).to_have_count(0)
    assert Device.objects.get(pk=device.pk).credential == device.credential


def test_a_sold_speed_is_set_and_shown(page, network):
    port = Interface.objects.get(label="Transport A", device__name="hex-wan-1")
    sign_in(page, f"/fleet/port/{port.pk}")
    page.get_by_role("button", name="Sold as …").click()
    page.get_by_label("in, Mb/s").fill("300")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("1 Gb/s port, sold as 300 Mb/s in")).to_be_visible()
    port.refresh_from_db()
    assert (port.in_override_bps, port.out_override_bps) == (300_000_000, None)


def test_poll_now_is_asked_for_and_its_record_is_read(page, network):
    device = Device.objects.get(name="hex-wan-1")
    sign_in(page, f"/fleet/device/{device.pk}")
    with page.expect_response(lambda answer: answer.url.endswith("/polls")):
        page.get_by_role("button", name="poll now").click()
    expect(page.get_by_text("Waiting for the collector")).to_be_visible()
    asked = device.poll_requests.get()
    from lumtar.domain.inventory import polling

    exchange = {"kind": "GET", "asked": 3, "first": "1.3.6.1.2.1.1.3.0", "answers": 3, "took_ms": 1.2, "fault": ""}
    computed = {"id": 1, "label": "Transport A", "seconds": 4.0, "in_bps": 3e8, "out_bps": None, "words": ""}
    record = {"took_ms": 12.0, "fault": "", "exchanges": [exchange], "computed": [computed]}
    polling.answer([asked.pk], device.pk, record)
    expect(page.get_by_text("Took 12 ms in 1 request.")).to_be_visible()
    expect(page.get_by_label("The poll")).to_contain_text("300 Mb/s in")


def test_an_own_field_from_making_it_to_the_inventory(page, network):
    Device.objects.filter(name="sal-acc-1").update(model="FH-2100", serial="S-77")
    sign_in(page, "/setup/fields")
    page.get_by_label("Name").fill("Rack")
    page.get_by_role("button", name="Add field").click()
    expect(page.get_by_role("listitem").filter(has_text="Rack")).to_contain_text("text")
    device = Device.objects.get(name="hex-wan-1")
    page.goto(f"/fleet/device/{device.pk}")
    page.get_by_role("button", name="change").click()
    page.get_by_label("Rack").fill("R4")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("R4", exact=True)).to_be_visible()
    page.goto("/fleet?list=inventory")
    rows = page.locator("a[data-row]").filter(has_text=re.compile("hex-wan-1|sal-acc-1"))
    expect(rows.filter(has_text="hex-wan-1")).to_contain_text("R4")
    expect(rows.filter(has_text="sal-acc-1")).to_contain_text("S-77")
    page.get_by_role("button", name=re.compile("^name")).click()
    expect(rows.first).to_contain_text("sal-acc-1")
    page.get_by_label("Search").fill("s-77")
    expect(rows).to_have_count(1)
