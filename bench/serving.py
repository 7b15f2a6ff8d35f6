"""The API's answers with the demonstration data, and the way from a fault to the screen."""

import json
import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
from playwright.sync_api import Page, sync_playwright

from bench.setting import URL, Figure, database, process, report

ROUNDS = 60


def free_port() -> int:
    """A TCP port that nobody holds."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


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

    def get(self, path: str) -> bytes:
        """One call."""
        request = urllib.request.Request(self.base + path, headers={"Authorization": f"Bearer {self.word}"})
        with urllib.request.urlopen(request, timeout=30) as answer:
            body: bytes = answer.read()
        return body


def api() -> None:
    """p95 of the calls behind each screen, with the demonstration's 35 days."""
    with psycopg.connect(URL) as asking:
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
        "device, components 24 h": f"devices/{device_id}/parts",
        "interface": f"interfaces/{port_id}",
        "interface, chart 1 h": f"interfaces/{port_id}/series?start={ago(3600)}&points=1500",
        "interface, chart 24 h": f"interfaces/{port_id}/series?start={ago(86400)}&points=1500",
        "interface, chart 7 d": f"interfaces/{port_id}/series?start={ago(7 * 86400)}&points=1500",
        "interface, chart 30 d": f"interfaces/{port_id}/series?start={ago(30 * 86400)}&points=1500",
        "working": f"interfaces/{port_id}/working?at={ago(900)}",
        "alarms standing": "alarms",
        "alarms of 30 days": f"alarms?standing=false&start={ago(30 * 86400)}",
        "health": "health",
    }
    figures = []
    port = free_port()
    with process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error"):
        client = Api(port, token(URL, "demo"))
        for name, path in calls.items():
            client.get(path)
            times = []
            for _ in range(ROUNDS):
                began = time.perf_counter()
                client.get(path)
                times.append(1000 * (time.perf_counter() - began))
            figures.append(Figure(name, sorted(times)[int(ROUNDS * 0.95)], "ms p95", "below 100"))
    report("API: the calls behind each screen", figures)


@contextmanager
def browser() -> Iterator[Page]:
    """A page in Chromium, headless, at 1280x800."""
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu", "--disable-quic"]
        )
        yield chromium.new_page(viewport={"width": 1280, "height": 800})
        chromium.close()


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
