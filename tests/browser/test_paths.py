"""A path gets slow: it stands first, its limit is in sight, and a rule about it is two clicks away."""

import re
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from playwright.sync_api import expect

from lumtar.domain.alarms import rules
from lumtar.domain.inventory.models import Device, Site
from lumtar.domain.paths import classes, judging, services, store
from lumtar.domain.paths.models import Path, ServiceClass, Transport
from lumtar.domain.readings.models import Newest
from lumtar.domain.reports import transport_moves
from lumtar.domain.topology.models import Route
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def measured(network):
    """Two paths from the depot: one takes 20 ms, the other one 20 ms and for ten minutes 400 ms with a tenth lost."""
    depot, hexwater = (Site.objects.get_or_create(name=name)[0] for name in ("Depot", "Hexwater"))
    made = [
        services.keep(
            Path(name=f"To Hexwater, {name}", from_site=depot, to_site=hexwater, address="127.0.9.9", dscp=dscp), "anna"
        )
        for name, dscp in (("voice", 46), ("copies", 10))
    ]
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    store.MINUTES.ensure(now - timedelta(hours=2), now)
    rows = np.zeros(120, store.ROW)
    rows["path"], rows["at"] = (
        np.repeat([each.pk for each in made], 60),
        np.tile(now.timestamp() - 60 * np.arange(1, 61), 2),
    )
    is_bad = (rows["path"] == made[1].pk) & (rows["at"] >= now.timestamp() - 600)
    rows["sent"], rows["lost"], rows["longest_burst"] = 60, np.where(is_bad, 6, 0), np.where(is_bad, 4, 0)
    for name in store.FLOATS:
        rows[name] = np.where(is_bad, 400_000, 20_000) if name in (*store.TRIPS, "mean") else 900
    store.append(rows)
    levels = [{"severity": 3, "limit": 150, "clear": 120}]
    rules.create({"name": "Slow paths", "measure": "path_delay_95", "levels": levels}, "anna")
    return made


def test_a_slow_path_stands_first_and_leads_to_its_rule(page, measured):
    sign_in(page)
    page.goto(f"{page.url.split('/now')[0].rstrip('/')}/paths?span=1h")
    matrix = page.get_by_role("region", name="Paths", exact=True)
    expect(matrix.get_by_role("link", name=re.compile("To Hexwater, copies: 400 ms"))).to_be_visible()
    expect(matrix.get_by_role("link", name=re.compile("To Hexwater, voice: 20 ms"))).to_be_visible()
    matrix.get_by_role("link", name=re.compile("copies")).click()
    path = page.get_by_role("region", name="Path", exact=True)
    expect(path.get_by_role("heading", name="To Hexwater, copies")).to_be_visible()
    expect(path).to_contain_text(re.compile(r"60 of 3,\d+ probes, at most 4 in a row"))
    expect(
        path.get_by_role("img", name=re.compile("limit 150 ms")).or_(path.get_by_label(re.compile("limit 150 ms")))
    ).to_be_visible()
    matrix.get_by_role("button", name="over time").click()
    copies = matrix.get_by_role("link", name=re.compile("To Hexwater, copies: 400 ms"))
    # The last ten minutes of the hour stand out, the rest does not.
    expect(copies.locator("rect[fill='var(--critical)']").first).to_be_attached()
    assert 5 <= copies.locator("rect[fill='var(--critical)']").count() <= 12
    assert copies.locator("rect[fill='var(--ink2)']").count() >= 20
    matrix.get_by_role("button", name="figures").click()
    expect(copies.locator("rect")).to_have_count(0)
    matrix.get_by_role("button", name="loss").click()
    expect(matrix.get_by_role("link", name=re.compile(r"copies: 1\.7 %"))).to_be_visible()
    path.get_by_role("link", name="Slow paths").click()
    expect(page.get_by_role("main")).to_contain_text("Applies to 2 paths now")


def test_a_path_is_set_up_and_mistakes_are_told(page, measured):
    sign_in(page)
    page.goto(f"{page.url.split('/now')[0].rstrip('/')}/paths?edit=new")
    form = page.get_by_role("region", name="Path", exact=True)
    form.get_by_label("Name").fill("To the server")
    form.get_by_label("Reflector").fill("127.0.9.9")
    form.get_by_label("DSCP").fill("99")
    form.get_by_role("button", name=re.compile("Save|Create|Keep")).click()
    expect(form.get_by_role("alert")).to_contain_text("DSCP: 0 to 63")
    form.get_by_label("DSCP").fill("0")
    form.get_by_role("button", name=re.compile("Save|Create|Keep")).click()
    expect(form.get_by_label("DSCP")).to_have_count(0)
    assert Path.objects.get(name="To the server").dscp == 0


@pytest.fixture
def choice(network):
    """A branch with two lines: over the preferred one calls get bad, over the other one they would not."""
    depot = Site.objects.get_or_create(name="Depot")[0]
    device = Device.objects.filter(site__isnull=False, interfaces__gone_at=None).first()
    voice = classes.keep_class(ServiceClass(name="voice", limits={"path_delay_95": 60}, share=99.0), "anna")
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    for table in (store.MINUTES, judging.JUDGED):
        table.ensure(now - timedelta(hours=3), now + timedelta(hours=1))
    made = []
    for number, (name, ms) in enumerate((("Line A", 180), ("Line B", 25))):
        port = list(device.interfaces.order_by("if_index"))[number]
        Newest.objects.filter(interface=port).update(oper=1)
        Route.objects.create(
            device=device, network="0.0.0.0/0", interface=port, metric=number, since=now - timedelta(hours=9)
        )
        line = classes.keep_transport(
            Transport(name=name, provider="Cairnholm Lines", site=device.site, interface=port), "anna"
        )
        path = Path(
            name=f"Calls over {name}", from_site=depot, to_site=device.site, address="127.0.9.9", service_class=voice, transport=line,
            since=now - timedelta(days=1),
        )  # fmt: skip
        services.keep(path, "anna")
        rows = np.zeros(120, store.ROW)
        rows["path"], rows["at"], rows["sent"] = path.pk, now.timestamp() - 60 * np.arange(1, 121), 60
        for each in store.FLOATS:
            rows[each] = 1000 * ms if each in (*store.TRIPS, "mean") else 900
        store.append(rows)
        made.append(line)
    transport_moves.note_moves(now - timedelta(minutes=30))
    judging.judge_hour(now.replace(minute=0) - timedelta(hours=1), {})
    return made, now


def test_a_line_gets_bad_the_better_one_is_named_traffic_moves_and_the_report_has_it(page, choice):
    (first, _), now = choice
    sign_in(page)
    base = page.url.split("/now")[0].rstrip("/")
    page.goto(f"{base}/paths?list=transports&span=1h")
    main = page.get_by_role("region", name="Transports in use")
    expect(main).to_contain_text("Line B would keep it (25 ms, 0.0 % lost). The network has not moved it.")
    Newest.objects.filter(interface=first.interface).update(oper=2)
    transport_moves.note_moves(now)
    page.reload()
    moves = page.get_by_role("complementary", name="Moves")
    expect(moves).to_contain_text("Line A → Line B: the port of Line A is down")
    moves.get_by_role("button").click()
    expect(moves).to_contain_text("180 ms, 0 %")
    main.get_by_role("button", name="service levels").click()
    levels = page.get_by_role("region", name="Service levels")
    levels.get_by_role("button", name="transport", exact=True).click()
    row = levels.get_by_role("listitem").filter(has_text="Line A")
    expect(row).to_contain_text("0.00 %")
    with page.expect_download() as downloading:
        levels.get_by_role("link", name="PDF").click()
    assert downloading.value.path().read_bytes().startswith(b"%PDF-")
    page.goto(f"{base}/paths/{first.paths.get().pk}?span=1h")
    page.get_by_role("link", name="was it the network?").first.click()
    expect(page.get_by_role("region", name="Was it the network?")).to_be_visible()
