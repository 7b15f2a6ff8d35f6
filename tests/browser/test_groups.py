"""Groups in a real browser: made by a condition, filled by hand, put into each other, and looked at."""

import re

import pytest
from playwright.sync_api import expect

from lumtar.domain.inventory import groups
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.models import Group, Interface
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def wans(network):
    Interface.objects.filter(label="Transport A").update(role="wan")
    return Interface.objects.filter(role="wan")


def test_a_group_by_condition_from_the_set_up_to_its_total(page, wans):
    sign_in(page, "/setup/groups")
    page.get_by_role("button", name="New group").click()
    page.get_by_label("Name").last.fill("WAN links")
    page.get_by_label("Where").fill("role iss wan")
    expect(page.get_by_text("it takes is, like, not “iss”")).to_be_visible()
    page.get_by_label("Where").fill("role is wan")
    expect(page.get_by_text(f"{wans.count()} ports now")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    page.get_by_role("link", name=f"{wans.count()} ports of").click()
    expect(page.get_by_role("heading", name="WAN links together")).to_be_visible()
    expect(page.get_by_role("region", name="Forecast")).to_contain_text("The history is too short")
    page.get_by_role("link", name="grid", exact=True).click()
    expect(page).to_have_url(re.compile(f"group={Group.objects.get().pk}"))
    expect(page.get_by_text(f"{wans.count()} ports").first).to_be_visible()
    page.get_by_role("navigation", name="Sites and groups").get_by_role("link", name="Hexwater").click()
    expect(page).not_to_have_url(re.compile("group="))


def test_ports_are_put_into_a_group_by_hand_and_taken_out(page, wans):
    group = groups.save(GroupSpec("Watched closely"), "anna")
    port = wans.first()
    sign_in(page, "/fleet?words=Transport")
    page.get_by_role("checkbox", name=f"Choose Transport A of {port.device.name}").click()
    page.get_by_label("add to group").select_option("Watched closely")
    expect(page.get_by_text("Watched closely has 1 by hand now.")).to_be_visible()
    assert list(group.ports.all()) == [port]
    page.get_by_role("navigation", name="Sites and groups").get_by_role("link", name="Watched closely").click()
    page.get_by_role("button", name="take out of Watched closely").click()
    expect(page.get_by_text("No matching ports")).to_be_visible()
    assert not group.ports.exists()


def test_a_group_that_would_contain_itself_is_refused_in_words(page, network):
    inner = groups.save(GroupSpec("Inner"), "anna")
    groups.save(GroupSpec("Outer", subgroups=[inner.pk]), "anna")
    sign_in(page, "/setup/groups")
    page.get_by_role("button", name="Inner").click()
    page.get_by_role("checkbox", name="Outer").check()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("Inner cannot contain Outer, which contains it already.")
    page.get_by_role("button", name="Cancel").click()
    page.get_by_role("button", name="Inner").click()
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_role("button", name="Inner")).to_have_count(0)
    assert list(Group.objects.values_list("name", flat=True)) == ["Outer"]
