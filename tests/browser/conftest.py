"""The real interface in Chromium, served by the real server from the test database."""

import asyncio
import os
import threading

import pytest
from asgiref.sync import sync_to_async
from django.contrib.auth.models import User
from django.db import connections
from playwright.sync_api import expect, sync_playwright

from tests.network import fill

FLAGS = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "true")
expect.set_options(timeout=30_000)


@pytest.fixture(scope="module")
def chromium():
    """A browser for one module: it keeps an event loop running, in which no asynchronous test could run."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS.split())
        yield browser
        browser.close()


@pytest.fixture(autouse=True)
def connected(transactional_db):
    """Another module's tests may have ended the connection of the thread that the server's asynchronous parts ask by."""
    # In a thread of its own: this one has the event loop of the browser.
    asking = threading.Thread(target=lambda: asyncio.run(sync_to_async(connections.close_all)()))
    asking.start()
    asking.join(10)


@pytest.fixture
def network(transactional_db):
    """A small network, and somebody who may see it."""
    User.objects.create_superuser("demo", password="oskelund")
    return fill(3.0)


@pytest.fixture
def page(chromium, address, settled):
    """A page at 1280x800 that fails the test if a script fails."""
    context = chromium.new_context(
        viewport={"width": 1280, "height": 800}, base_url=address, timezone_id="UTC", color_scheme="light"
    )
    made = context.new_page()
    errors = []
    made.on("pageerror", lambda error: errors.append(str(error)))
    yield made
    context.close()
    assert not errors


def sign_in(page, path="/"):
    page.goto(path)
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("oskelund")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("navigation", name="Places")).to_be_visible()


def settled(page):
    """Wait until nothing is on its way from the server, and what came is drawn."""
    page.wait_for_function(
        """() => new Promise((done) => {
            let calm = 0;
            const look = () => {
                const main = document.querySelector("main");
                calm = main && main.getAttribute("aria-busy") === "false" && !main.textContent.includes("Loading …") ? calm + 1 : 0;
                if (calm > 12) done(true); else requestAnimationFrame(look);
            };
            look();
        })"""
    )
