"""A call plan made by hand: a contact, a plan, a rule that calls by it, and a maintenance."""

import re

from playwright.sync_api import expect

from tests.browser.conftest import sign_in


def test_a_contact_a_plan_and_a_rule_that_calls_by_it(page, network):
    sign_in(page, "/setup/contacts")
    page.get_by_role("button", name="New contact").click()
    page.get_by_label("Name", exact=True).fill("Anna")
    page.get_by_label(re.compile("^Address")).fill("not an address")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert").filter(has_text="no mail address")).to_be_visible()
    page.get_by_label(re.compile("^Address")).fill("anna@oskelund.example")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("anna@oskelund.example")).to_be_visible()
    page.goto("/setup/plans")
    page.get_by_role("button", name="New call plan").click()
    page.get_by_label("Name", exact=True).fill("Night")
    page.get_by_label("Step 1: add whom to call").select_option(label="Anna")
    would = page.get_by_role("region", name="Who would be called now")
    expect(would.get_by_text("Anna: mail anna@oskelund.example")).to_be_visible()
    page.get_by_label("Subject").fill("{{ alarm.label }} now")
    expect(page.get_by_text("hex-wan-1 Transport A now")).to_be_visible()
    page.get_by_role("region", name="Texts").locator("textarea").fill("{% for a in alarm %}{% endfor %}")
    expect(page.get_by_text("cannot use “for”")).to_be_visible()
    page.get_by_role("region", name="Texts").locator("textarea").fill("")
    page.get_by_role("button", name="Create call plan").click()
    expect(page.get_by_text("1 step · no rule names it")).to_be_visible()
    page.goto("/alarms")
    page.get_by_role("link", name="Utilisation", exact=True).click()
    expect(page.get_by_text("Nobody is called: its alarms are listed")).to_be_visible()
    page.get_by_label("Call plan").select_option(label="Night")
    expect(page.get_by_text("Nobody is called: its alarms are listed")).to_have_count(0)
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Calls by the plan Night.")).to_be_visible()


def test_maintenance_is_planned_from_a_port_and_shown_in_the_calendar(page, network):
    sign_in(page, "/alarms?show=maintenance")
    page.get_by_role("button", name="Plan maintenance").click()
    page.get_by_label(re.compile("^Name")).fill("Swap of the router")
    page.get_by_role("button", name="Plan", exact=True).click()
    expect(page.get_by_role("alert").filter(has_text="what it is about")).to_be_visible()
    page.get_by_label("Add a site, group or device").fill("hex-wan-1")
    page.get_by_label("Repeats").select_option(label="every week")
    page.get_by_role("button", name="Plan", exact=True).click()
    expect(page.get_by_text("every week").first).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("Swap of the router: ")).first).to_be_visible()


def test_a_formula_is_checked_while_it_is_typed(page, network):
    sign_in(page, "/alarms/rules/new")
    page.get_by_label("Measure").select_option(label="a formula …")
    field = page.get_by_label("Formula")
    field.fill("in + load")
    expect(page.get_by_text("cannot be added").first).to_be_visible()
    field.fill("100 * in / (in + ou")
    page.get_by_role("button", name="out", exact=True).click()
    expect(field).to_have_value("100 * in / (in + out")
    field.fill("in + out")
    expect(page.get_by_text(re.compile("now: .* bit/s"))).to_be_visible()


def test_new_alarms_on_a_wall_and_in_a_corner(page, network):
    sign_in(page)
    page.goto("/wall")
    expect(page.get_by_role("region", name="Active alarms")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("navigation", name="Places")).to_be_visible()
    page.set_viewport_size({"width": 320, "height": 240})
    expect(page.get_by_role("navigation", name="Places")).to_have_count(0)
    expect(page.locator("main span", has_text=re.compile("critical|major"))).to_be_visible()
