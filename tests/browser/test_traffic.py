"""An uplink fills: from Now, in at most three actions, who it is, with what, since when, and how much of the counter flows explain."""

import re
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from playwright.sync_api import expect

from lumtar.core.flows import totals
from lumtar.core.flows.records import address_numbers
from lumtar.core.flows.response_times import RESPONSES
from lumtar.domain.alarms.models import Rule
from lumtar.domain.flows import response_times, store, strangers
from lumtar.domain.flows.models import AddressList, DeclaredField, Exporter, Stranger
from lumtar.domain.inventory.models import Interface
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)
COPY, WEB = ("10.9.10.33", "10.1.10.201", 873, 14), ("10.9.40.7", "2001:db8:f00d::9", 443, 1)
SHARES = ((COPY, 0.9), (WEB, 0.085))


@pytest.fixture
def full(network):
    """The first port of hex-wan-1 has run at 95 % for half an hour; its flows tell of 98.5 % of that."""
    wan, _ = network
    port = Interface.objects.get(device=wan, if_index=1)
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    Exporter.objects.create(
        address=wan.address, protocol="ipfix", domain=0, device=wan, first_at=now - timedelta(hours=2), last_at=now
    )
    store.MINUTES.ensure(now - timedelta(hours=3), now)
    last = int(now.timestamp() // 60)
    told = [
        (last - ago, conversation, share * (0.95 if ago <= 30 else 0.01))
        for ago in range(3, 121)
        for conversation, share in SHARES
    ]
    rows = np.zeros(len(told), totals.CONVERSATION)
    for at, (minute, (source, goal, service, application), share) in enumerate(told):
        rows["src_hi"][at], rows["src_lo"][at] = address_numbers(source)
        rows["dst_hi"][at], rows["dst_lo"][at] = address_numbers(goal)
        rows["minute"][at], rows["port"][at], rows["application"][at] = minute, service, application
        rows["octets"][at] = int(share * 1e9 / 8 * 60)
    rows["interface"], rows["way"], rows["protocol"], rows["packets"], rows["flows"] = port.pk, 1, 6, 1, 1
    rows["is_counted"] = 1
    store.append(rows)
    return port


def test_who_fills_an_uplink_is_two_clicks_from_now(page, full):
    sign_in(page)
    page.get_by_role("main").get_by_role("link", name=re.compile("hex-wan-1 Transport A")).last.click()
    filled = page.get_by_role("region", name="Who fills it, out")
    expect(filled).to_contain_text("backup")
    filled.get_by_role("link", name="Who fills it").click()
    expect(page).to_have_url(re.compile(f"/traffic.*interface={full.pk}.*way=out"))
    main = page.get_by_role("region", name="Traffic")
    # Who, with what, …
    expect(main).to_contain_text("10.9.10.33 → 10.1.10.201")
    expect(main).to_contain_text("backup tcp 873")
    expect(main).to_contain_text("2001:db8:f00d::9")
    # … and that flows explain what the port counted.
    explained = main.get_by_text(re.compile("Flows explain"))
    expect(explained).to_contain_text(re.compile(r"9[89](\.\d)? %"))
    # Each filter narrows, and is taken away by itself.
    main.get_by_role("link", name=re.compile("10.9.10.33")).click()
    expect(main.get_by_role("button", name=re.compile("from 10.9.10.33"))).to_be_visible()
    page.go_back()
    expect(main).to_contain_text("10.9.40.7")


def test_traffic_is_watched_and_becomes_a_rule(page, full):
    sign_in(page)
    page.goto(f"{page.url.split('/now')[0].rstrip('/')}/traffic?interface={full.pk}&way=out&application=14")
    beside = page.get_by_role("complementary", name="Beside the traffic")
    beside.get_by_label("Name for the traffic that is shown").fill("Copies to the depot")
    beside.get_by_role("button", name="Watch it").click()
    expect(beside.get_by_role("link", name="Copies to the depot")).to_be_visible()
    beside.get_by_role("link", name="new rule").click()
    main = page.get_by_role("main")
    # The rule is about it, and is rehearsed on its history at once.
    expect(main).to_contain_text("Applies to 1 watched traffic now")
    expect(main.get_by_role("region", name="Rehearsal")).to_contain_text("1 watched traffic")
    main.get_by_label("Name", exact=True).fill("Copies")
    main.get_by_role("button", name="Create rule").click()
    expect(main.get_by_text("Rehearsal")).to_have_count(0)
    assert Rule.objects.get(name="Copies").scope == 'traffic is "Copies to the depot"'


def test_a_stranger_is_accepted(page, full):
    known = strangers.keep_list(AddressList(name="County", within="10.0.0.0/8", listed="10.1.*"), "anna")
    hi, lo = address_numbers("10.77.0.5")
    now = datetime.now(UTC)
    Stranger.objects.create(
        known=known,
        hi=hi,
        lo=lo,
        first_at=now,
        last_at=now,
        interface=full,
        peer_hi=0,
        peer_lo=lo + 1,
        port=443,
        protocol=6,
    )
    sign_in(page)
    page.goto(f"{page.url.split('/now')[0].rstrip('/')}/traffic?list=strangers")
    main = page.get_by_role("region", name="Traffic")
    expect(main).to_contain_text("10.77.0.5")
    main.get_by_role("button", name="accept", exact=True).click()
    expect(main).to_contain_text("Everybody who is seen is known.")
    known.refresh_from_db()
    assert "10.77.0.5" in known.listed


def test_a_slow_server_is_told_apart_from_the_network(page, full):
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    store.RESPONSE_MINUTES.ensure(now - timedelta(hours=3), now)
    rows = np.zeros(60, RESPONSES)
    for at, address in enumerate(("10.0.10.200", "10.0.10.201")):
        rows["server_hi"][at::2], rows["server_lo"][at::2] = address_numbers(address)
        rows["server_us"][at::2] = (30_000, 4_200_000)[at]
    rows["minute"] = int(now.timestamp() // 60) - 3 - np.repeat(np.arange(30), 2)
    rows["device"], rows["output"], rows["application"], rows["port"], rows["protocol"] = (
        full.device_id,
        full.pk,
        1,
        8080,
        6,
    )
    rows["network_us"], rows["network_number"], rows["server_number"] = 6_000, 1, 1
    response_times.append(rows)
    sign_in(page)
    page.goto(f"{page.url.split('/now')[0].rstrip('/')}/traffic?interface={full.pk}&way=out&span=1h")
    main = page.get_by_role("region", name="Traffic")
    main.get_by_role("button", name="response times").click()
    expect(main).to_contain_text(re.compile(r"the network took 6\.0 ms and servers took 2\.1 s"))
    main.get_by_role("link", name="web", exact=True).click()
    # The slow one stands first, and its network is as good as that of the other.
    expect(main.get_by_role("listitem").first).to_contain_text(re.compile(r"10\.0\.10\.201 tcp 8080.*6\.0 ms.*4\.2 s"))
    expect(main.get_by_role("listitem").nth(1)).to_contain_text(re.compile(r"10\.0\.10\.200 tcp 8080.*6\.0 ms.*30 ms"))


def test_a_field_of_an_exporter_is_declared(page, full):
    Exporter.objects.update(templates=[[256, 0, [[8, 4, 0], [7, 4, 32473]]]])
    sign_in(page)
    page.goto(f"{page.url.split('/now')[0].rstrip('/')}/setup/traffic")
    main = page.get_by_role("region", name="Fields of records")
    main.get_by_role("button", name="element 7 of enterprise 32473").click()
    main.get_by_label("What it tells").select_option(label="time of the server for an answer")
    main.get_by_label("Unit").select_option("ms")
    main.get_by_role("button", name="Declare it").click()
    expect(main).to_contain_text("element 7 of enterprise 32473time of the server for an answer, in ms")
    field = DeclaredField.objects.get()
    assert (field.enterprise, field.element, field.part, field.unit) == (32473, 7, "server", "ms")
    main.get_by_role("button", name="read it no longer").click()
    expect(main).to_contain_text("No field is declared yet.")
