"""The API's answers with the demonstration data, and the way from a fault to the screen."""

import json
import os
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress

import psycopg
from playwright.sync_api import Page, sync_playwright

from bench.ports import free_port
from bench.setting import URL, Figure, database, process, report

ROUNDS = 60


def token(url: str, user: str) -> str:
    """A new API token."""
    env = {**os.environ, "LUMTAR_DATABASE_URL": url}
    out = subprocess.run(
        [sys.executable, "-m", "django", "apitoken", user], env=env, capture_output=True, text=True, check=True
    )
    return out.stdout.strip()


def wait_for(port: int) -> None:
    """Wait until the server is there."""
    for _ in range(150):
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/api/v1/openapi.json", timeout=1)
            return
        except OSError:
            time.sleep(0.1)


class Api:
    """A client that waits until the server is there."""

    def __init__(self, port: int, word: str) -> None:
        self.base = f"http://127.0.0.1:{port}/api/v1/"
        self.word = word
        wait_for(port)

    def get(self, path: str, body: bytes | None = None) -> bytes:
        """One call; with a body it is a POST."""
        headers = {"Authorization": f"Bearer {self.word}", "Content-Type": "application/json"}
        request = urllib.request.Request(self.base + path, body, headers)
        with urllib.request.urlopen(request, timeout=120) as answer:
            content: bytes = answer.read()
        return content


def p95(client: Api, path: str) -> float:
    """Milliseconds that 95 of 100 calls stay below, once it is warm."""
    client.get(path)
    times = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        client.get(path)
        times.append(1000 * (time.perf_counter() - began))
    return sorted(times)[int(ROUNDS * 0.95)]


FILL_FLEET = "from bench.seed import groups, main, newest; main(5000, 20, 60); newest(); groups()"


def fleet() -> None:
    """Fleet with 5,000 devices and 100,000 interfaces: first rows, filters and orders at the API."""
    calls = {
        "first rows, by load": ("interfaces?limit=200&sort=load", 300),
        "in the order of their labels": ("interfaces?limit=200&sort=label", 150),
        "by errors": ("interfaces?limit=200&sort=errors", 150),
        "one device by name": ("interfaces?limit=200&words=bench-04321", 150),
        "a word that 5,000 ports have": ("interfaces?limit=200&words=g17", 150),
        "one that none has": ("interfaces?limit=200&words=nowhere", 150),
        "devices": ("devices?limit=200", 150),
        "ten groups, counted": ("groups", 1000),
        "ports of a group, by load": ("interfaces?limit=200&sort=load&group=1", 300),
    }
    with database() as url:
        env = {"LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-c", FILL_FLEET], env={**os.environ, **env}, check=True)
        port = free_port()
        with process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error", env=env):
            client = Api(port, token(url, "bench"))
            figures = [
                Figure(name, p95(client, path), "ms p95", f"below {goal}") for name, (path, goal) in calls.items()
            ]
    report("fleet: 5,000 devices, 100,000 interfaces", figures)


def api() -> None:
    """p95 of the calls behind each screen, with the demonstration's 35 days."""
    row = None
    with psycopg.connect(URL) as asking, suppress(psycopg.errors.UndefinedTable):
        row = asking.execute(
            "SELECT i.id, d.id FROM inventory_interface i JOIN inventory_device d ON d.id = i.device_id WHERE d.name = 'pel-wan-1' AND i.name = 'wan1'"
        ).fetchone()
    if row is None:
        raise SystemExit("bench api: the demonstration data is not loaded; run ./lumtar demo once, then again.")
    port_id, device_id = row
    now = time.time()

    def ago(seconds: float) -> str:
        return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(now - seconds))

    calls = {
        "Now": "now",
        "Now, two days ago": f"now?at={ago(2 * 86400)}",
        "time strip, 24 h": "timeline?buckets=96",
        "Fleet: 1,178 ports": "interfaces?limit=2000&sort=load",
        "Fleet: devices": "devices",
        "device": f"devices/{device_id}",
        "device, components 24 h": f"devices/{device_id}/components",
        "interface": f"interfaces/{port_id}",
        "interface, chart 1 h": f"interfaces/{port_id}/series?start={ago(3600)}&points=1500",
        "interface, chart 24 h": f"interfaces/{port_id}/series?start={ago(86400)}&points=1500",
        "interface, chart 7 d": f"interfaces/{port_id}/series?start={ago(7 * 86400)}&points=1500",
        "interface, chart 30 d": f"interfaces/{port_id}/series?start={ago(30 * 86400)}&points=1500",
        "calculation": f"interfaces/{port_id}/calculation?at={ago(900)}",
        "active alarms": "alarms",
        "alarms of 30 days": f"alarms?active=false&start={ago(30 * 86400)}",
        "health": "health",
    }
    figures = []
    port = free_port()
    with process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error"):
        client = Api(port, token(URL, "demo"))
        for name, path in calls.items():
            figures.append(Figure(name, p95(client, path), "ms p95", "below 100"))
    report("API: the calls behind each screen", figures)


MAKE_USER = """
import django
django.setup()
from bench.fleet import COMMUNITY
from django.contrib.auth.models import User
from lumtar.domain.inventory.credentials import create
User.objects.create_user("bench")
create("bench", "v2c", {"community": COMMUNITY})
"""


def lists(lines: int = 1000) -> None:
    """A pasted list of devices that all answer: understood, then tried and added."""
    from bench.fleet import PORT, address

    with database() as url, process("bench.fleet", str(lines), "2", "180", ready=True):
        env = {"LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-c", MAKE_USER], env={**os.environ, **env}, check=True)
        port = free_port()
        with process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error", env=env):
            client = Api(port, token(url, "bench"))
            text = "address,port,site\n" + "".join(f"{address(n)},{PORT},Site {n % 20}\n" for n in range(lines))
            began = time.perf_counter()
            understood = json.loads(client.get("devices/list", text.encode()))["lines"]
            preview = time.perf_counter() - began
            body = json.dumps({"lines": understood}).encode()
            began = time.perf_counter()
            results = [json.loads(line) for line in client.get("devices/list/add", body).splitlines()]
            took = time.perf_counter() - began
            again = [json.loads(line) for line in client.get("devices/list/add", body).splitlines()]
    report(
        f"list: {lines:,} lines",
        [
            Figure("understood", preview, "s", "below 1"),
            Figure("tried and added", took, "s", "below 30"),
            Figure("added", sum(result["went"] == "added" for result in results), "", f"{lines:,}"),
            Figure("added when the same list is run again", sum(each["went"] == "added" for each in again), "", "0"),
        ],
    )


@contextmanager
def browser() -> Iterator[Page]:
    """A page in Chromium, headless, at 1280x800."""
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu", "--disable-quic"]
        )
        yield chromium.new_page(viewport={"width": 1280, "height": 800})
        chromium.close()


def sign_in(page: Page, base: str) -> None:
    """Sign in as the demonstration's user."""
    page.goto(base)
    page.get_by_label("Name").fill("demo")
    page.get_by_label("Password").fill("oskelund")
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("navigation", name="Places").wait_for()


def alarm(interval: int = 10) -> None:
    """From a device that falls silent to the sentence on the screen of somebody who looks at Now."""
    from bench.polling import seed

    with database() as url, process("bench.fleet", "1", "10", "120", ready=True) as fleet:
        seed(url, 1, 10, interval)
        env = {"LUMTAR_DATABASE_URL": url}
        port = free_port()
        with (
            process("lumtar.engine.collector", env=env),
            process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error", env=env),
            psycopg.connect(url, autocommit=True) as listening,
            browser() as page,
        ):
            wait_for(port)
            listening.execute("LISTEN lumtar")
            await_topic(listening, "readings")
            page.goto(f"http://127.0.0.1:{port}/")
            page.get_by_label("Name").fill("bench")
            page.get_by_label("Password").fill("measured-in-seconds")
            page.get_by_role("button", name="Make administrator").click()
            page.get_by_role("heading", level=1).wait_for()
            fleet.terminate()
            fleet.wait()
            began = time.perf_counter()
            await_topic(listening, "alarms")
            announced = time.perf_counter() - began
            page.get_by_role("heading", level=1).filter(has_text="bench-00000").wait_for()
            shown = time.perf_counter() - began
    report(
        "alarm: from the fault to the screen",
        [
            Figure("polling interval", interval, "s"),
            Figure("fault to announcement (two polls in a row without an answer)", announced, "s"),
            Figure("announcement to the sentence on the screen, in Chromium", 1000 * (shown - announced), "ms"),
        ],
    )


def await_topic(listening: psycopg.Connection[tuple[object, ...]], topic: str) -> None:
    """Wait until something of this topic is announced."""
    for notice in listening.notifies(timeout=90):
        if json.loads(notice.payload)["topic"] == topic:
            return
    raise SystemExit(f"bench: nothing was announced of {topic} in 90 s")
