"""People, tokens, sessions and the audit trail, as an administrator and those who are let in use them."""

import re

import pytest
from django.contrib.auth.models import User
from django.utils import timezone
from playwright.sync_api import expect

from lumtar.core.access import Role
from lumtar.domain.accounts import services
from lumtar.domain.accounts.services import Wanted
from lumtar.domain.inventory.models import DeviceState
from lumtar.domain.operation.services import beat, note_job
from tests.browser.conftest import sign_in

pytestmark = pytest.mark.django_db(transaction=True)
PASSWORD = "a-good-long-word-7"


def enter(page, name, path="/"):
    page.goto(path)
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("navigation", name="Places")).to_be_visible()


def test_somebody_is_let_in_for_one_site_and_sees_nothing_else(page, network, chromium, address):
    sign_in(page, "/setup/people")
    page.get_by_role("button", name="Add a person").click()
    page.get_by_label("Name").fill("bert")
    page.get_by_label("Password").fill("short")
    page.get_by_label("operator").check()
    page.get_by_label("Only these sites").select_option("Hexwater")
    expect(page.get_by_text("Sees only these")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert").filter(has_text="too short")).to_be_visible()
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("operator, only Hexwater")).to_be_visible()

    theirs = chromium.new_context(base_url=address, viewport={"width": 1280, "height": 800})
    other = theirs.new_page()
    enter(other, "bert", "/fleet?list=devices")
    expect(other.get_by_text("hex-wan-1").first).to_be_visible()
    expect(other.get_by_text("sal-acc-1")).to_have_count(0)
    other.goto("/setup")
    nav = other.get_by_role("navigation", name="Setup pages")
    expect(nav.get_by_text("My account")).to_be_visible()
    expect(nav.get_by_text("Credentials")).to_have_count(0)
    other.goto("/setup/people")
    expect(other.get_by_text("People and roles needs the role administrator")).to_be_visible()

    # Barred, they are out at once, wherever they are.
    page.reload()
    page.get_by_role("button", name=re.compile("bert")).click()
    page.get_by_label("may sign in").uncheck()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("barred")).to_be_visible()
    other.goto("/fleet")
    expect(other.get_by_role("button", name="Sign in")).to_be_visible()
    theirs.close()

    page.goto("/setup/audit")
    expect(page.get_by_text("Add a person").first).to_be_visible()
    page.get_by_label("Search").fill("bert is_active")
    expect(page.get_by_text("is active true → false")).to_be_visible()


def test_a_token_is_shown_once_and_revoked(page, network):
    sign_in(page, "/setup/tokens")
    page.get_by_label("Name").fill("grafting script")
    page.get_by_label("Role").select_option("viewer")
    page.get_by_role("button", name="Create token").click()
    secret = page.locator("code").inner_text()
    assert secret.startswith("lumtar_")
    assert services.person_of_token(secret).role is Role.VIEWER
    page.get_by_role("button", name="I have it").click()
    expect(page.get_by_text(secret)).to_have_count(0)
    page.get_by_role("button", name="Revoke grafting script").click()
    expect(page.get_by_text(re.compile("^revoked"))).to_be_visible()
    assert services.person_of_token(secret) is None


def test_ones_own_password_is_changed_and_other_browsers_are_signed_out(page, network, chromium, address):
    services.create_person("bert", PASSWORD, Wanted(Role.VIEWER), "the test")
    theirs = chromium.new_context(base_url=address)
    other = theirs.new_page()
    enter(other, "bert")
    enter(page, "bert", "/setup/account")
    expect(page.get_by_role("button", name="Sign out everywhere else")).to_be_visible()
    page.get_by_label("Current password").fill("not this one")
    page.get_by_label("New password").fill("another-good-word-8")
    page.get_by_role("button", name="Change password").click()
    expect(page.get_by_role("alert").filter(has_text="not your password now")).to_be_visible()
    page.get_by_label("Current password").fill(PASSWORD)
    page.get_by_role("button", name="Change password").click()
    expect(page.get_by_text("Password changed.")).to_be_visible()
    other.goto("/fleet")
    expect(other.get_by_role("button", name="Sign in")).to_be_visible()
    theirs.close()
    assert User.objects.get(username="bert").check_password("another-good-word-8")


def test_services_tell_how_far_they_are_and_the_foot_leads_there(page, network):
    now = timezone.now()
    beat("collector", now, timezone.now(), {"devices": 2, "restarted_tasks": {"polling": 2}}, trouble="9 readings wait")
    note_job("lumtar.domain.readings.jobs.roll_up", 60, now, 1200.0, "DataError: bigint out of range")
    sign_in(page)
    foot = page.get_by_role("contentinfo")
    expect(foot).to_contain_text("9 readings wait and 1 more")
    foot.get_by_role("link").click()
    expect(page).to_have_url(re.compile("/setup/services"))
    expect(page.get_by_text("“polling” ended with an error and was started again, 2 times")).to_be_visible()
    expect(page.get_by_text("DataError: bigint out of range").last).to_be_visible()


def test_what_a_device_gave_and_was_not_believed_stands_on_its_page(page, network):
    DeviceState.objects.filter(device=network[0]).update(
        refused={"ifHighSpeed": "“fast” is not a number from 0 to 4294967295"}
    )
    sign_in(page, f"/fleet/device/{network[0].pk}")
    page.get_by_text("Gives a value that cannot be; they are left out").click()
    expect(page.get_by_text("“fast” is not a number")).to_be_visible()
