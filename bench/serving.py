"""The API's answers with the demonstration data, and the way from a fault to the screen."""

import json
import os
import socket
import subprocess
import sys
import time
import urllib.request

import psycopg

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


class Api:
    """A client that waits until the server is there."""

    def __init__(self, port: int, word: str) -> None:
        self.base = f"http://127.0.0.1:{port}/api/v1/"
        self.word = word
        for _ in range(150):
            try:
                urllib.request.urlopen(self.base + "openapi.json", timeout=1)
                return
            except OSError:
                time.sleep(0.1)

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


def alarm(interval: int = 10) -> None:
    """From a device that falls silent to the alarm in what the screen is told and asks for."""
    from bench.polling import seed

    with database() as url, process("bench.fleet", "1", "10", "120", ready=True) as fleet:
        seed(url, 1, 10, interval)
        env = {"LUMTAR_DATABASE_URL": url}
        subprocess.run(
            [
                sys.executable,
                "-c",
                "import django; django.setup(); from django.contrib.auth.models import User; User.objects.create_user('bench')",
            ],
            env={**os.environ, **env},
            check=True,
        )
        port = free_port()
        with (
            process("lumtar.engine.collector", env=env),
            process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error", env=env),
            psycopg.connect(url, autocommit=True) as listening,
        ):
            client = Api(port, token(url, "bench"))
            listening.execute("LISTEN lumtar")
            for notice in listening.notifies(timeout=60):
                if json.loads(notice.payload)["topic"] == "readings":
                    break
            fleet.terminate()
            fleet.wait()
            began = time.perf_counter()
            for notice in listening.notifies(timeout=90):
                if json.loads(notice.payload)["topic"] == "alarms":
                    break
            announced = time.perf_counter() - began
            rows = json.loads(client.get("alarms"))["rows"]
            shown = time.perf_counter() - began
            assert rows, "the alarm was announced and is not there"
    report(
        "alarm: from the fault to the screen",
        [
            Figure("polling interval", interval, "s"),
            Figure("fault to announcement (two polls in a row without an answer)", announced, "s"),
            Figure("announcement to the answer that the screen shows", 1000 * (shown - announced), "ms"),
        ],
    )
