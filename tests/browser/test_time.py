"""Reading traffic over time, in a real browser: charts, grid, totals, top lists, and last night."""

import re
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings.models import Gap, LiveReading, LiveWish, Reading, Retention
from tests.alarms import transition
from tests.browser.conftest import sign_in
from tests.network import fill

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def port(network):
    Interface.objects.filter(label="Transport A").update(role="wan")
    return Interface.objects.get(device=network[1], if_index=1)


def test_a_chart_in_other_units_beside_another_time_and_as_a_table(page, port):
    sign_in(page, f"/fleet/port/{port.pk}?span=1h")
    seen = page.get_by_role("table").first
    expect(seen.get_by_role("row", name=re.compile("^in "))).to_contain_text("b/s")
    page.get_by_role("button", name="share").click()
    expect(page).to_have_url(re.compile("unit=share"))
    expect(seen.get_by_role("row", name=re.compile("^in "))).to_contain_text("%")
    page.get_by_role("button", name="bytes").click()
    expect(seen.get_by_role("row", name=re.compile("^in "))).to_contain_text("B/s")
    page.get_by_label("compare with").select_option("a day earlier")
    expect(page.get_by_text("1 d earlier")).to_be_visible()
    page.get_by_label("scale").select_option("logarithmic")
    expect(page).to_have_url(re.compile("scale=log"))
    page.get_by_role("button", name="table").click()
    steps = page.get_by_label("Summary").get_by_role("row")
    expect(steps.nth(1)).to_contain_text(re.compile(r"\d\d:\d\d – \d\d:\d\d"))
    assert steps.count() > 50
    page.reload()
    expect(page.get_by_label("Summary")).to_be_visible()
    expect(page.get_by_role("button", name="bytes")).to_have_attribute("aria-pressed", "true")


def test_what_was_counted_is_taken_home(page, port):
    sign_in(page, f"/fleet/port/{port.pk}?span=1h")
    with page.expect_download() as waiting:
        page.get_by_role("link", name="Parquet").click()
    assert waiting.value.path().read_bytes()[:4] == b"PAR1"


def test_time_is_moved_by_keys(page, port):
    sign_in(page, f"/fleet/port/{port.pk}?span=1h")
    expect(page.get_by_text("Following now")).to_be_visible()
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_role("button", name="back to now")).to_be_visible()
    first = page.url
    page.keyboard.press("-")
    expect(page).not_to_have_url(first)
    page.keyboard.press("n")
    expect(page.get_by_text("Following now")).to_be_visible()


def test_from_the_grid_to_a_port(page, port):
    sign_in(page, "/fleet?list=grid&site=Saltby")
    cells = page.get_by_role("group", name=re.compile("4 ports of sal-acc-1"))
    expect(cells).to_be_visible()
    cells.hover(position={"x": 5, "y": 5})
    expect(page.get_by_text(re.compile(r"Transport A \(g1\): up, [\d.]+ %"))).to_be_visible()
    cells.hover(position={"x": 50, "y": 5})
    expect(page.get_by_text("g4 (g4): not in use")).to_be_visible()
    page.get_by_role("button", name="errors").click()
    expect(page.get_by_text("100 ppm and more")).to_be_visible()
    cells.focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Transport A")
    page.go_back()
    expect(cells).to_be_visible()


def test_from_a_total_to_a_member_to_the_port_in_two_steps(page, port):
    sign_in(page, "/fleet?list=total")
    expect(page.get_by_text("2 ports")).to_be_visible()
    expect(page.get_by_text("counts at both")).to_be_visible()
    expect(page.get_by_role("button", name="four weeks")).to_be_visible()
    page.get_by_role("link", name=re.compile("Transport A sal-acc-1")).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("sal-acc-1")


def test_top_lists(page, port):
    sign_in(page, "/plan")
    rows = page.get_by_role("listitem")
    expect(rows.first).to_contain_text("Transport A")
    page.get_by_role("button", name="emptiest").click()
    expect(page.get_by_text("last used")).to_be_visible()
    expect(rows.first).not_to_contain_text("Transport A")
    page.get_by_label("site or group").select_option("Saltby")
    expect(rows).to_have_count(4)
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("sal-acc-1")


def test_what_fills_up_says_when_the_history_is_too_short(page, port):
    sign_in(page, "/plan")
    page.get_by_role("link", name="What fills up").click()
    expect(page.get_by_text("Of 4 more directions the history is too short")).to_be_visible()
    page.get_by_label("ports with the role").select_option("any")
    expect(page.get_by_text("Of 16 more directions")).to_be_visible()


def test_storage_shows_its_effect_before_it_is_saved(page, port, tmp_path):
    sign_in(page, "/setup/storage")
    field = page.get_by_label("Days that five minutes are kept")
    field.fill("3")
    expect(page.get_by_text("will be dropped, and cannot be brought back")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("kept at least as long as a finer one")).to_be_visible()
    field.fill("60")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Changed by demo")).to_be_visible()
    assert Retention.objects.get().five_minutes_days == 60
    wrong = tmp_path / "wrong.csv"
    wrong.write_text("a,b\n1,2\n")
    page.get_by_label("A CSV file with readings").set_input_files(wrong)
    expect(page.get_by_text("Nothing was taken. Line 1: the header lacks device")).to_be_visible()


def test_was_it_the_copy_that_failed_last_night_or_the_network(page, transactional_db):
    """A branch lost its power while a copy should have run: from Now, in three actions."""
    from django.contrib.auth.models import User

    User.objects.create_superuser("demo", password="oskelund")
    branch = fill(9.0)[0]
    now = datetime.now(UTC)
    began, ended = now - timedelta(hours=8), now - timedelta(hours=5.5)
    why = "no answer on UDP 1161 in 3 tries"
    Reading.objects.filter(interface__device=branch, at__gt=began, at__lte=ended).delete()
    Gap.objects.create(device=branch, start=began, end=ended, reason="silent", words=why)
    Entry.objects.create(at=began, kind="reach", device=branch, text=f"hex-wan-1 does not answer: {why}")
    Entry.objects.create(at=ended, kind="restart", device=branch, text="hex-wan-1 restarted, was up 12 d")
    rule = Rule.objects.get(name="Reachability")
    for severity, text, at in (
        (Severity.CRITICAL, f"Does not answer: {why}", began),
        (Severity.CLEARED, "Answers again after 150 minutes", ended),
    ):
        apply([transition(branch, severity, text, at=at, rule=rule)])
    sign_in(page)
    page.get_by_role("link", name="Alarms").click()
    page.get_by_role("link", name="History").click()
    line = page.get_by_role("link", name=re.compile("hex-wan-1 .*Answers again after 150 minutes"))
    expect(line).to_contain_text("2 h")
    line.click()
    expect(page.get_by_text(f"Does not answer: {why}")).to_be_visible()
    page.get_by_role("main").get_by_role("link", name="Device", exact=True).click()
    expect(page.get_by_text(f"hex-wan-1 does not answer: {why}")).to_be_visible()
    expect(page.get_by_text("hex-wan-1 restarted, was up 12 d")).to_be_visible()


def test_ports_are_chosen_and_looked_at_live(page, network):
    """The collector is not running here: what it would read is written down by the test."""
    ports = list(Interface.objects.filter(label="Transport A").order_by("pk")[:2])
    sign_in(page, "/fleet?words=Transport")
    for port in ports:
        box = page.get_by_role("checkbox", name=f"Choose Transport A of {port.device.name}")
        box.click()
        expect(box).to_be_checked()
    expect(page.get_by_role("status").filter(has_text="2 ports chosen")).to_be_visible()
    page.get_by_role("link", name="live", exact=True).click()
    expect(page.get_by_text("the first look counts nothing yet").first).to_be_visible()
    now = datetime.now(UTC)
    LiveReading.objects.create(
        interface=ports[0], at=now, elapsed_ms=2000, in_octets=500_000, out_octets=0, flags=0, oper=1
    )
    expect(page.get_by_text("2.0 Mb/s", exact=True)).to_be_visible()
    assert LiveWish.objects.filter(by="demo", every_s=2).count() == 2
    page.get_by_label("interval").select_option("5 s")
    expect(page).to_have_url(re.compile("every=5"))
    page.get_by_role("button", name="pause").click()
    expect(page.get_by_text("Paused: nothing is read.")).to_be_visible()
    page.get_by_role("link", name="on one chart").click()
    expect(page.get_by_role("heading", name="Chosen ports together")).to_be_visible()
    expect(page.get_by_role("img", name="In of 2 ports together")).to_be_visible()
    page.get_by_role("button", name="none of them").click()
    expect(page.get_by_role("status").filter(has_text="chosen")).to_have_count(0)
    assert not LiveWish.objects.exists()


def test_live_is_now_and_says_so_at_a_past_time(page, port):
    past = "from=2026-01-01T00:00:00Z&to=2026-01-01T06:00:00Z"
    sign_in(page, f"/fleet?list=live&ports={port.pk}&{past}")
    page.get_by_role("button", name="Back to now").click()
    expect(page.get_by_role("button", name="pause")).to_be_visible()
    page.goto("/fleet?list=live&ports=999999")
    expect(page.get_by_role("alert")).to_contain_text("One of these ports is not there any more.")
