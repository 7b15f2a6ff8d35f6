"""Sweeps, admission rules, profiles, labels and roles, in a real browser."""

import re

import pytest
from playwright.sync_api import expect

from bench.ports import free_port
from lumtar.domain.inventory import credentials, labelling, profiles
from lumtar.domain.inventory.models import Device, Interface, LabelRule, Profile
from lumtar.domain.sweeps.models import AdmissionRule, Run, Sweep
from tests.browser.conftest import sign_in
from tests.lab.boxes import COMMUNITY
from tests.standins import standing_in
from tests.sweeps import carry_out

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def nothing_built_in(transactional_db):
    LabelRule.objects.all().delete()
    Profile.objects.all().delete()


def test_a_sweep_from_its_estimate_to_a_device(page, network, loopback):
    port, place = free_port(), next(loopback)
    credentials.create("County", "v2c", {"community": COMMUNITY})
    sign_in(page, "/setup/sweeps")
    page.get_by_label("Name", exact=True).last.fill("Depot")
    page.get_by_label("Addresses").fill("10.0.0.0/8")
    expect(page.get_by_text("a sweep goes through 262,144 at most")).to_be_visible()
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    page.get_by_label("Addresses").fill(place)
    expect(page.get_by_text("1 address, at most")).to_be_visible()
    page.get_by_label("ICMP echo").uncheck()
    page.get_by_label("UDP port").fill(str(port))
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("listitem").filter(has_text="Depot")).to_contain_text("never run")
    page.get_by_role("button", name="run now").click()
    expect(page.get_by_text("It starts as soon as the worker is free.")).to_be_visible()
    with standing_in(port, place):
        carry_out(Run.objects.get().pk)
    expect(page.get_by_text(re.compile(r"1 address in \d+ s: 1 new, 1 awaiting review"))).to_be_visible()
    row = page.get_by_role("listitem").filter(has_text=place).last
    expect(row).to_contain_text("no rule holds for it: decide yourself")
    row.get_by_role("button", name=f"add {place}").click()
    expect(row).to_contain_text("added by demo")
    assert Device.objects.filter(address=place, credential__name="County").exists()
    page.get_by_role("button", name="awaiting review 0").click()
    expect(page.get_by_text("None of it is awaiting review.")).to_be_visible()
    assert Sweep.objects.get().every_s == 86400


def test_an_admission_rule_is_tried_while_it_is_written(page, network):
    made = Sweep.objects.create(name="Depot", ranges="10.20.0.0/24")
    made.findings.create(address="10.20.0.7", reasons={"10.20.0.7": "found first"}, sys_name="alw-acc-7")
    sign_in(page, "/setup/admission")
    expect(page.get_by_text("Dry run on the last results: hold 1")).to_be_visible()
    page.get_by_role("button", name="New rule").click()
    page.get_by_label("Name", exact=True).last.fill("Ours")
    page.get_by_label("Where").fill("sys_nme like x")
    expect(page.get_by_text("“sys_nme” (character 1) is no field")).to_be_visible()
    page.get_by_label("Where").fill('sys_name like "alw-*"')
    expect(page.get_by_text("Dry run on the last results: add 1")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name="New rule")).to_be_visible()
    assert AdmissionRule.objects.get().condition == 'sys_name like "alw-*"'


def test_a_label_rule_shows_what_it_would_do(page, network):
    sign_in(page, "/setup/labels")
    page.get_by_role("button", name="New rule").click()
    page.get_by_label("Name", exact=True).last.fill("Ports")
    page.get_by_label("Where").fill('name like "g*"')
    expect(page.get_by_text("Set a role, a label or a tag")).to_be_visible()
    page.get_by_label("Role").select_option("access")
    expect(page.get_by_text("8 ports meet the condition, 8 would change")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("listitem").filter(has_text="Ports")).to_contain_text("access")
    second = labelling.save_rule(labelling.LabelRuleSpec("Uplinks", 'label like "Tr*"', "uplink"), "")
    page.reload()
    page.get_by_role("button", name="Decide earlier: Uplinks").click()
    expect(page.get_by_role("listitem").first).to_contain_text("Uplinks")
    assert LabelRule.objects.first() == second


def test_a_profiles_change_asks_for_whom(page, network):
    made = profiles.save(profiles.ProfileSpec("County", "switch", ["1.3.6.1.4.1.32473"]), "")
    Device.objects.filter(name="sal-acc-1").update(profile=made, sys_object_id="1.3.6.1.4.1.32473.1")
    sign_in(page, "/setup/profiles")
    page.get_by_role("button", name="County", exact=True).click()
    expect(page.get_by_text("Fits 1 of 2 devices")).to_be_visible()
    page.get_by_label("Interval (s)").fill("120")
    expect(page.get_by_text("For all its 1 devices that is 50 % of the requests")).to_be_visible()
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    page.get_by_label("for all 1 that have it").check()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("listitem").filter(has_text="County")).to_contain_text("every 2 min")
    assert Device.objects.get(name="sal-acc-1").interval_s == 120


def test_an_object_is_read_back_while_it_is_typed(page, network, loopback):
    port, place = free_port(), next(loopback)
    Device.objects.filter(name="sal-acc-1").update(
        address=place, port=port, credential=credentials.create("County", "v2c", {"community": COMMUNITY})
    )
    sign_in(page, "/setup/profiles")
    page.get_by_role("button", name="New profile").click()
    page.get_by_label("Name", exact=True).last.fill("Ours")
    page.get_by_role("button", name="add an object").click()
    page.get_by_label("read back from").select_option(label="sal-acc-1")
    with standing_in(port, place):
        page.get_by_label("Object identifier").fill("1.3.6.1.2.1.2.1.0")
        expect(page.get_by_text("3 INTEGER")).to_be_visible()
        page.get_by_label("Object identifier").fill("1.3.6.1.4.1.99.1.0")
        expect(page.get_by_text("the device has nothing there")).to_be_visible()
        page.get_by_label("Object identifier").fill("1.3.6.1.2.1.2.1.0")
    page.get_by_label("Name", exact=True).last.fill("Ports")
    page.get_by_role("button", name="Put it in").click()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("listitem").filter(has_text="Ours")).to_contain_text("1 own")
    assert Profile.objects.get().objects_read[0]["name"] == "Ports"


def test_label_sources_are_compared_and_chosen(page, network):
    device = Device.objects.get(name="hex-wan-1")
    Interface.objects.filter(device=device, if_index=1).update(alias="Transport A")
    sign_in(page, f"/fleet/device/{device.pk}")
    page.get_by_role("button", name="port labels").click()
    expect(page.get_by_role("columnheader").filter(has_text="proposed")).to_contain_text("{alias|name|descr|index}")
    page.get_by_label("Label template").fill("{nme}")
    expect(page.get_by_text("“nme” is nothing that a port says")).to_be_visible()
    page.get_by_label("Label template").fill("{name} – {alias}")
    header = page.get_by_role("columnheader").filter(has_text="{name} – {alias}")
    header.get_by_role("button", name="choose").click()
    expect(page.get_by_label("Label template")).to_have_count(0)
    expect(page.get_by_text("g1 – Transport A").first).to_be_visible()
    device.refresh_from_db()
    assert device.label_template == "{name} – {alias}"


def test_a_ports_role_says_who_decided_and_is_overruled(page, network):
    labelling.save_rule(labelling.LabelRuleSpec("Everything", role="access"), "")
    labelling.label_ports()
    port = Interface.objects.get(device__name="hex-wan-1", if_index=2)
    sign_in(page, f"/fleet/port/{port.pk}")
    page.get_by_role("button", name="access …").click()
    expect(page.get_by_text("decided by the rule “Everything”")).to_be_visible()
    page.get_by_label("Role").select_option("uplink")
    page.get_by_role("button", name="Save").click()
    page.get_by_role("button", name=re.compile("^uplink")).click()
    expect(page.get_by_text("decided by somebody, for this port")).to_be_visible()
    port.refresh_from_db()
    assert port.role == "uplink"
