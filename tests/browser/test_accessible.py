"""Every view in both themes, as WCAG 2.2 AA wants it."""

import re
from pathlib import Path

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import expect

from lumtar.domain.inventory.models import Interface
from tests.browser.conftest import settled, sign_in

pytestmark = pytest.mark.django_db(transaction=True)


def violations(page, of):
    found = Axe().run(page, options={"runOnly": of}).response["violations"]
    return [f"{each['id']}: {node['html'][:120]}" for each in found for node in each["nodes"]]


WEB = Path(__file__).parents[2] / "web/src/views"


def every_view():
    """All addresses that the application names: of views, of pages of one thing, of the set-up."""
    named = re.findall(r'address: "(/[^"]*)"', (WEB / "manifest.ts").read_text())
    pages = re.findall(r'path: "(\w+)"', (WEB / "setup/pages.ts").read_text())
    assert len(named) > 12 and len(pages) > 15
    return [*named, *(f"/setup/{page}" for page in pages)]


def test_every_view_is_accessible(page, network):
    port = Interface.objects.get(device=network[0], if_index=1)
    sign_in(page)
    found = {}
    for view in every_view():
        page.emulate_media(color_scheme="light")
        page.goto(view.format(port=port.pk, device=network[0].pk))
        expect(page.get_by_role("navigation", name="Places")).to_be_visible()
        settled(page)
        found[view] = violations(page, ["wcag2a", "wcag2aa", "wcag22aa"])
        # In the dark the same stands there in other colours.
        page.emulate_media(color_scheme="dark")
        settled(page)
        found[view] += violations(page, {"type": "rule", "values": ["color-contrast", "link-in-text-block"]})
    assert found == {view: [] for view in found}
