"""What an engineer does with it, in a real browser."""

import re
from datetime import UTC, datetime, timedelta

import pytest
from django.contrib.auth.models import User
from playwright.sync_api import expect

from bench.ports import free_port
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.operation.models import Process
from lumtar.domain.operation.services import announce
from tests.alarms import plan_for, transition
from tests.browser.conftest import settled, sign_in
from tests.lab.boxes import COMMUNITY
from tests.standins import standing_in

pytestmark = pytest.mark.django_db(transaction=True)


def test_from_the_first_visit_to_the_first_device(page, loopback):
    page.goto("/")
    expect(page.get_by_role("heading")).to_have_text("There is no user yet. Create the administrator.")
    page.get_by_label("Name").fill("anna")
    page.get_by_label("Password").fill("short")
    page.get_by_role("button", name="Create administrator").click()
    expect(page.get_by_role("alert")).to_contain_text("too short")
    page.get_by_label("Password").fill("a-good-long-word")
    page.get_by_role("button", name="Create administrator").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Nothing is watched yet.")
    assert User.objects.get().is_superuser
    page.get_by_role("link", name="Fleet").click()
    page.get_by_role("link", name="Add a device").click()
    host, port = next(loopback), free_port()
    with standing_in(port, host):
        page.get_by_label("Address").fill(host)
        page.get_by_label("UDP port").fill(str(port))
        page.get_by_text("SNMP v2c").click()
        page.get_by_label("Community").fill(COMMUNITY)
        page.get_by_role("button", name="Try it").click()
        expect(page.get_by_text("3 interfaces")).to_be_visible()
        expect(page.get_by_role("button", name="Add, watched by SNMP")).to_be_focused()
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1)).to_contain_text("tst-acc-")
    assert Device.objects.get().address == host


def test_a_wrong_password_is_said(page, network):
    page.goto("/")
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Wrong name or password")


def test_now_says_what_is_wrong_and_leads_to_it(page, network):
    sign_in(page)
    expect(page.get_by_role("heading", level=1)).to_contain_text("hex-wan-1 Transport A 95 % full outbound")
    expect(page.get_by_text("2 of 2 devices answer")).to_be_visible()
    cause = page.locator("a[data-row]").first
    expect(cause).to_contain_text("nobody is called")
    cause.click()
    expect(page).to_have_url(re.compile(r"/alarms/\d+"))
    page.get_by_role("main").get_by_role("link", name="Port", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Transport A")
    expect(page.get_by_role("img", name=re.compile("Bandwidth in and out"))).to_be_visible()


def test_a_new_alarm_appears_without_reloading(page, network):
    sign_in(page)
    expect(page.get_by_text("Active alarms")).to_be_visible()
    expect(page.locator("html")).to_have_attribute("data-live", "on")
    rule = Rule.objects.get(name="Reachability")
    text = "Does not answer: no answer on UDP 1161 in 3 tries"
    changed = apply([transition(network[1], Severity.CRITICAL, text, rule=rule)])
    announce("alarms", changed)
    expect(page.get_by_role("heading", level=1)).to_contain_text("sal-acc-1 does not answer", timeout=15_000)
    expect(page.locator("a[data-row]")).to_have_count(2)


def test_the_trail_from_a_site_to_a_port_and_back(page, network):
    sign_in(page, "/fleet")
    expect(page.get_by_text("8 ports")).to_be_visible()
    page.get_by_role("navigation", name="Sites").get_by_role("link", name="Saltby").click()
    expect(page.get_by_text("4 ports")).to_be_visible()
    page.get_by_role("link", name="Transport A").first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("sal-acc-1")
    expect(page.get_by_text("4 ports")).to_be_visible()
    page.get_by_role("article").get_by_role("link", name="sal-acc-1").click()
    expect(page.get_by_text("What it is")).to_be_visible()
    expect(page.get_by_text(re.compile("next poll|polling now")).first).to_be_visible()
    page.keyboard.press("Escape")
    expect(page).to_have_url(re.compile(r"/fleet\?site=Saltby"))


def test_words_narrow_the_list_and_stay_in_the_address(page, network):
    sign_in(page, "/fleet")
    page.get_by_label("Search").fill("hex transport")
    expect(page.get_by_text("1 ports")).to_be_visible()
    expect(page).to_have_url(re.compile("words=hex"))
    page.reload()
    expect(page.get_by_text("1 ports")).to_be_visible()
    page.get_by_label("Search").fill("no such thing")
    expect(page.get_by_text("No matching ports")).to_be_visible()


def test_figures_explain_themselves_and_spans_change(page, network):
    port = Interface.objects.get(device=network[0], if_index=1)
    sign_in(page, f"/fleet/port/{port.pk}?span=1h")
    working = page.get_by_role("region", name="Calculation")
    expect(working).to_contain_text("7,125,000,000 octets counted in 60.00 s × 8")
    expect(working).to_contain_text("= 95.0 % of 1 Gb/s, from ifHighSpeed")
    for name in ("24 h", "7 d", "30 d"):
        page.get_by_role("button", name=name).click()
        expect(page.get_by_role("button", name=name)).to_have_attribute("aria-pressed", "true")
        expect(page.get_by_role("row", name=re.compile("^in"))).to_contain_text("b/s")
    expect(page.get_by_text(re.compile("mean of .*, from five minutes"))).to_be_visible()


def test_the_whole_screen_at_a_past_time(page, network):
    then = datetime.now(UTC) - timedelta(hours=1, minutes=55)
    span = f"from={(then - timedelta(minutes=20)):%Y-%m-%dT%H:%M:%SZ}&to={then:%Y-%m-%dT%H:%M:%SZ}"
    sign_in(page, f"/?{span}")
    expect(page.get_by_role("heading", level=1)).to_contain_text("sal-acc-1 does not answer")
    expect(page.get_by_text("Following now")).not_to_be_visible()
    page.get_by_role("link", name="Alarms", exact=True).click()
    expect(page.get_by_text("Active at")).to_be_visible()
    page.keyboard.press("n")
    expect(page.get_by_text("Following now")).to_be_visible()
    expect(page.get_by_role("link", name="Active", exact=True)).to_be_visible()


def test_a_range_is_chosen_by_dragging_and_by_typing(page, network):
    sign_in(page)
    strip = page.get_by_role("img", name=re.compile("Alarms over time")).bounding_box()
    page.mouse.move(strip["x"] + strip["width"] * 0.9, strip["y"] + 20)
    page.mouse.down()
    page.mouse.move(strip["x"] + strip["width"] * 0.95, strip["y"] + 20, steps=4)
    page.mouse.up()
    expect(page.get_by_role("button", name="back to now")).to_be_visible()
    expect(page).to_have_url(re.compile("from=.*to="))
    page.get_by_role("button", name="Choose a range").click()
    page.get_by_label("From", exact=True).fill("2026-11-02T10:00")
    page.get_by_label("To", exact=True).fill("2026-11-01T10:00")
    page.get_by_role("button", name="Show this range").click()
    expect(page.get_by_role("alert").filter(has_text="ends before")).to_be_visible()
    page.get_by_label("To", exact=True).fill("2026-11-02T12:00")
    page.get_by_role("button", name="Show this range").click()
    expect(page.get_by_text("Mon 2 10:00 – 12:00")).to_be_visible()


def test_a_day_of_25_hours_is_typed_in_the_readers_own_time(chromium, address, settled, network):
    """In central Europe clocks went back in the night of 25 October 2026."""
    context = chromium.new_context(
        base_url=address, timezone_id="Europe/Berlin", viewport={"width": 1280, "height": 800}
    )
    page = context.new_page()
    sign_in(page)
    page.get_by_role("button", name="Choose a range").click()
    page.get_by_label("From", exact=True).fill("2026-10-25T00:00")
    page.get_by_label("To", exact=True).fill("2026-10-26T00:00")
    page.get_by_role("button", name="Show this range").click()
    expect(page).to_have_url(re.compile("from=2026-10-24T22(:|%3A)00.*to=2026-10-25T23(:|%3A)00"))
    context.close()


def test_the_foot_says_when_nothing_is_polled(page, network):
    sign_in(page)
    foot = page.get_by_role("contentinfo")
    expect(foot).to_contain_text("collector polls 2 devices, on time")
    Process.objects.filter(name="collector").update(beat_at=datetime.now(UTC) - timedelta(minutes=10))
    page.reload()
    expect(foot).to_contain_text("the collector is not running since")
    expect(foot).not_to_contain_text("on time")


def test_zooming_into_a_chart_moves_the_whole_screen(page, network):
    port = Interface.objects.get(device=network[0], if_index=1)
    sign_in(page, f"/fleet/port/{port.pk}?span=24h")
    chart = page.get_by_role("img", name=re.compile("Bandwidth in and out"))
    expect(chart).to_be_visible()
    settled(page)
    box = chart.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.8, box["y"] + 100)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.9, box["y"] + 110, steps=5)
    page.mouse.up()
    expect(page).to_have_url(re.compile("from=.*to="))
    page.keyboard.press("Escape")
    expect(page.get_by_text("Following now")).to_be_visible()


def test_everything_by_keyboard(page, network):
    sign_in(page)
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("/")
    page.get_by_placeholder("A name, address, MAC address, port label").fill("sal-acc")
    expect(page.get_by_role("option", name=re.compile("sal-acc-1 127.0.0.2"))).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("sal-acc-1")
    page.get_by_role("link", name="Now").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_text("Active alarms")).to_be_visible()
    page.keyboard.press("j")
    expect(page.locator("a[data-row]").first).to_be_focused()
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/alarms/\d+"))


def test_a_rule_is_changed_and_wrong_limits_are_explained(page, network):
    plan_for("duty@oskelund.example")
    sign_in(page, "/alarms")
    expect(page.get_by_text("Nobody is called: it has no call plan.").first).to_be_visible()
    page.get_by_role("link", name="Utilisation").click()
    page.get_by_label("Clearing limit of major").fill("95")
    page.get_by_role("button", name="Save").click()
    # The rehearsal beside the form may have tried the same limits by then, and says so too.
    expect(
        page.get_by_role("alert").filter(has_text="clearing limit must not be above the limit").first
    ).to_be_visible()
    page.get_by_label("Clearing limit of major").fill("70")
    page.get_by_label("Call plan").select_option(label="Mail to duty@oskelund.example")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Calls by the plan Mail to duty@oskelund.example.")).to_be_visible()
    level = {"severity": 4, "limit": 90, "clear": 70}
    assert Rule.objects.get(name="Utilisation").levels == [level]
    page.get_by_role("link", name="Utilisation").click()
    page.get_by_role("button", name="Add a level").click()
    page.get_by_label("Limit of critical", exact=True).fill("75")
    page.get_by_label("Clearing limit of critical").fill("60")
    page.get_by_label("Severity").nth(1).select_option("minor")
    page.get_by_label("How long").select_option("for")
    page.get_by_label("Hold in minutes").fill("10")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("minor above 75 %, cleared below 60 %")).to_be_visible()
    rule = Rule.objects.get(name="Utilisation")
    assert (rule.levels, rule.hold_s) == ([{"severity": 3, "limit": 75, "clear": 60}, level], 600)


def test_a_recommended_rule_is_rehearsed_while_it_is_written_and_then_created(page, network):
    sign_in(page, "/alarms")
    page.get_by_role("link", name="Errors and discards").click()
    expect(page.get_by_text("transfers begin to slow down")).to_be_visible()
    page.goto("/alarms/rules/new")
    page.get_by_label("Ports where").fill("lable is x")
    expect(page.get_by_role("status").filter(has_text="lable")).to_be_visible()
    page.get_by_label("Ports where").fill("")
    expect(page.get_by_role("button", name="hex-wan-1 Transport A")).to_be_visible()
    expect(page.get_by_text("calls nobody")).to_be_visible()
    page.get_by_label("Limit of major", exact=True).fill("99")
    page.get_by_label("Statistic").select_option("maximum")
    expect(page.get_by_text("It would have raised nothing in this time.")).to_be_visible()
    page.get_by_label("Limit of major", exact=True).fill("90")
    page.get_by_label("Name").fill("Busy ports")
    page.get_by_label("Instructions").fill("Look at the traffic.")
    page.get_by_role("button", name="Create rule").click()
    expect(page.get_by_role("link", name="Busy ports")).to_be_visible()
    rule = Rule.objects.get(name="Busy ports")
    assert (rule.statistic, rule.window_s, rule.instructions) == ("maximum", 600, "Look at the traffic.")
    page.get_by_role("link", name="Busy ports").click()
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_role("heading", name="Rules")).to_be_visible()
    expect(page.get_by_role("link", name="Busy ports")).to_have_count(0)
    assert not Rule.objects.filter(name="Busy ports").exists()


def test_alarms_are_acknowledged_shelved_and_commented_on_by_keyboard(page, network):
    sign_in(page, "/alarms")
    expect(page).to_have_title("1 alarm, major · Lumtar")
    row = page.locator("a[data-alarm]").first
    row.focus()
    page.keyboard.press("x")
    expect(page.get_by_role("form", name="Actions on 1 alarm")).to_be_visible()
    page.keyboard.press("a")
    expect(page.get_by_text("acknowledged by demo")).to_be_visible()
    row.click()
    page.get_by_label("Comment").fill("the backup again")
    page.keyboard.press("Enter")
    expect(page.get_by_text("the backup again by demo")).to_be_visible()
    page.get_by_label("For how long").select_option("until cleared")
    page.get_by_role("button", name="Shelve").click()
    expect(page.get_by_text("until it is cleared: nobody is called")).to_be_visible()
    expect(page.locator("a[data-alarm]")).to_have_count(0)
    expect(page).to_have_title("Lumtar")
    page.get_by_role("link", name="Shelved").click()
    expect(page.locator("a[data-alarm]")).to_have_count(1)


def test_the_theme_is_chosen_and_remembered(page, network):
    sign_in(page)
    page.get_by_role("button", name="demo").click()
    page.get_by_role("menuitem", name="Use the dark theme").click()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "dark")
    page.get_by_role("button", name="demo").click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()


def test_a_phone_can_show_alarms_and_a_device(page, network):
    page.set_viewport_size({"width": 360, "height": 740})
    sign_in(page, "/alarms")
    expect(page.locator("a[data-row]").first).to_be_visible()
    port = Interface.objects.get(device=network[0], if_index=1)
    alarm = Alarm.objects.filter(is_cleared=False).first()
    for path in (
        "/",
        "/alarms",
        f"/alarms/{alarm.pk}",
        f"/fleet/device/{network[0].pk}",
        f"/fleet/port/{port.pk}",
        "/setup",
    ):
        page.goto(path)
        settled(page)
        assert page.evaluate("document.scrollingElement.scrollWidth") <= 360


def test_a_long_list_is_scrolled_to_its_end(page, network):
    """Only the pages in sight are fetched, and no row is missing on the way."""
    Interface.objects.bulk_create(
        Interface(device=network[1], if_index=1000 + n, name=f"e{n}", label=f"Far port {n:04d}") for n in range(900)
    )
    sign_in(page, "/fleet?sort=label")
    expect(page.get_by_text("908 ports")).to_be_visible()
    rows = page.locator("a[data-row]")
    expect(rows.first).to_contain_text("Far port 0000")
    rows.first.hover()
    for place in (300, 620, 899):
        wanted = page.get_by_text(f"Far port {place:04d}")
        for _ in range(60):
            if wanted.count():
                break
            page.mouse.wheel(0, 500)
            page.wait_for_timeout(60)
            # The page of rows that came into sight is there before the next turn of the wheel.
            expect(rows.nth(19)).to_be_attached()
        expect(wanted).to_be_visible()
    shown = [int(text[9:13]) for text in rows.all_inner_texts() if text.startswith("Far port")]
    assert shown == list(range(shown[0], shown[-1] + 1))
