"""A path gets slow: it stands first, its limit is in sight, and a rule about it is two clicks away."""

import re
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from playwright.sync_api import expect

from lumtar.domain.alarms import rules
from lumtar.domain.inventory.models import Site
from lumtar.domain.paths import services, store
from lumtar.domain.paths.models import Path
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
