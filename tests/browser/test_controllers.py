"""An administrator describes a make of controller, tries it, sets one up, and makes a device of a member."""

import asyncio
import threading

import pytest
from django.db import connection
from playwright.sync_api import expect

from lab.controller import PASSWORD, PROFILE, USER
from lumtar.domain.controllers import answers
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Device
from lumtar.engine import controllers as engine
from tests.browser.conftest import sign_in
from tests.lab.overlay import overlay

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def running():
    with overlay() as made:
        yield made


def ask():
    """Ask what is due, as the worker does; in a thread of its own, since this one has the browser's event loop."""

    def asked():
        for wanted in engine.due(engine.timezone.now()):
            answers.keep(wanted.number, asyncio.run(engine.ask(wanted)), engine.timezone.now())
        connection.close()

    thread = threading.Thread(target=asked)
    thread.start()
    thread.join(30)


def test_from_a_profile_to_a_device(page, network, running):
    controller, base, authority, _ = running
    credentials.create("Overlay read", "v2c", {"community": "word"})
    sign_in(page, "/setup/controllers")
    page.get_by_role("button", name="New profile").click()
    form = page.get_by_role("form", name="Profile of controllers")
    form.get_by_label("Name", exact=True).fill("County overlay")
    form.get_by_label("One signs in by").select_option("session")
    sign = PROFILE["sign_in"]
    for label, value in (
        ("Where one signs in", sign["path"]), ("Token in the answer", sign["token"]), ("Name is sent as", sign["user_field"]),
        ("Token is sent in", sign["header"]),
    ):  # fmt: skip
        form.get_by_label(label).fill(value)
    devices = form.get_by_role("group", name="devices")
    devices.get_by_label("Asked for at").fill("/api/edges")
    devices.get_by_label("Rows").fill("$.data.items[*]")
    devices.get_by_label("name", exact=True).fill("$.hostname")
    devices.get_by_label("address for SNMP").fill("$.ip")
    trial = form.get_by_role("region", name="Trial")
    trial.get_by_label("At").fill(base)
    trial.get_by_label("Name to sign in").fill(USER)
    trial.get_by_label("Password").fill(PASSWORD)
    trial.get_by_role("button", name="Try").click()
    # Nobody has said yet by whom its certificate is trusted.
    expect(trial).to_contain_text("its certificate is not trusted")
    devices.get_by_label("address for SNMP").fill("$.management.ip")
    form.get_by_role("button", name="Save").click()
    page.get_by_role("button", name="New controller").click()
    form = page.get_by_role("form", name="Controller", exact=True)
    for label, value in (
        ("Name", "Manager"), ("Address", base), ("Name to sign in", USER), ("Password", PASSWORD), ("Trusted by", authority),
        ("Addresses that members may have", "127.0.77.3/32"), ("UDP port", "1161"),
    ):  # fmt: skip
        form.get_by_label(label, exact=label == "Name").first.fill(value)
    form.get_by_label("Members are polled by").select_option(label="Overlay read")
    form.get_by_role("button", name="Save").click()
    told = page.get_by_role("region", name="What Manager tells of")
    expect(told).to_be_visible()
    ask()
    expect(told).to_contain_text("5 members are no device yet")
    # What the profile says can be tried with what is stored for the controller, certificate included.
    page.get_by_role("button", name="County overlay").click()
    trial = page.get_by_role("region", name="Trial")
    trial.get_by_role("button", name="Try").click()
    expect(trial.get_by_role("status")).to_contain_text("5 devices")
    told.get_by_role("button", name="Add all that may be").click()
    expect(told.get_by_role("link", name="hex-wan-1")).to_be_visible()
    expect(told).to_contain_text("members of Manager may not have the address 127.0.77.1: allowed is 127.0.77.3/32")
    assert Device.objects.filter(name="hex-wan-1", address="127.0.77.3").exists()
    controller.manner.status = 503
    with page.expect_response(lambda answer: answer.request.method == "POST"):
        told.get_by_role("button", name="Ask now").click()
    ask()
    expect(told.get_by_role("alert")).to_contain_text("status 503")
    expect(told.get_by_role("link", name="hex-wan-1")).to_be_visible()
