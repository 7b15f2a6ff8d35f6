"""Every view in both themes, as WCAG 2.2 AA wants it."""

import pytest
from axe_playwright_python.sync_playwright import Axe

from lumtar.domain.inventory.models import Interface
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)


def violations(page):
    found = Axe().run(page, options={"runOnly": ["wcag2a", "wcag2aa", "wcag22aa"]}).response["violations"]
    return [f"{each['id']}: {node['html'][:120]}" for each in found for node in each["nodes"]]


@pytest.mark.parametrize("theme", ["light", "dark"])
@pytest.mark.parametrize(
    "path",
    [
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
        "/fleet?list=live&ports=1",
    ],
)
def test_every_view_is_accessible(page, network, theme, path):
    port = Interface.objects.get(device=network[0], if_index=1)
    page.emulate_media(color_scheme=theme)
    sign_in(page, path.format(port=port.pk, device=network[0].pk))
    page.wait_for_timeout(900)
    assert violations(page) == []
