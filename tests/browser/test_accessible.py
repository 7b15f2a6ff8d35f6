"""Every view in both themes, as WCAG 2.2 AA wants it."""

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import expect

from lumtar.domain.inventory.models import Interface
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)


def violations(page):
    found = Axe().run(page, options={"runOnly": ["wcag2a", "wcag2aa", "wcag22aa"]}).response["violations"]
    return [f"{each['id']}: {node['html'][:120]}" for each in found for node in each["nodes"]]


VIEWS = (
    "/",
    "/fleet",
    "/fleet?list=devices",
    "/fleet/port/{port}",
    "/fleet/device/{device}",
    "/alarms",
    "/setup/add",
    "/setup/list",
    "/setup/credentials",
    "/setup/sweeps",
    "/setup/admission",
    "/setup/profiles",
    "/setup/labels",
    "/setup/check",
    "/setup/fields",
    "/fleet?list=inventory",
    "/fleet?list=grid",
    "/fleet?list=total&role=any",
    "/plan",
    "/plan?show=full",
    "/setup/storage",
    "/setup/groups",
    "/setup/people",
    "/setup/tokens",
    "/setup/account",
    "/setup/audit",
    "/setup/services",
    "/fleet?list=live&ports={port}",
)


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_every_view_is_accessible(page, network, theme):
    port = Interface.objects.get(device=network[0], if_index=1)
    page.emulate_media(color_scheme=theme)
    sign_in(page)
    found = {}
    for view in VIEWS:
        page.goto(view.format(port=port.pk, device=network[0].pk))
        expect(page.get_by_role("navigation", name="Places")).to_be_visible()
        page.wait_for_timeout(900)
        found[view] = violations(page)
    assert found == {view: [] for view in VIEWS}
