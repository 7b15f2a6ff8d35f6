"""Traps: ``./lumtar bench traps``.

A hundred devices send 5,000 linkDown and linkUp a second for ten seconds to a receiver that is a process of its own.
"""

import itertools
import os
import socket
import subprocess
import sys
import time

import psycopg

from bench.setting import Figure, cpu, database, postgres_cpu, process, report
from lumtar.wire import ber
from lumtar.wire.notifications import notification

DEVICES, RATE, SECONDS, PORT = 100, 5_000, 10, 9477
LINK_DOWN, LINK_UP = "1.3.6.1.6.3.1.1.5.3", "1.3.6.1.6.3.1.1.5.4"


def _address(number: int) -> str:
    return f"127.66.0.{number + 1}"


def fill() -> None:
    """Devices with a port each."""
    import django

    django.setup()
    from lumtar.domain.inventory.models import Interface
    from lumtar.domain.inventory.services import add_device

    for number in range(DEVICES):
        device = add_device(_address(number), name=f"device-{number}", kind="v2c", secret={"community": "word"})
        Interface.objects.create(device=device, if_index=7, name="g7", label="g7")


def _send() -> float:
    """Send everything at a steady pace; seconds that it took."""
    outlets = []
    for number in range(DEVICES):
        outlet = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        outlet.bind((_address(number), 0))
        outlets.append(outlet)
    messages = [
        notification(
            b"word",
            1,
            [
                ("1.3.6.1.2.1.1.3.0", ber.integer(4711, ber.TIME_TICKS)),
                ("1.3.6.1.6.3.1.1.4.1.0", ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(oid))),
                ("1.3.6.1.2.1.2.2.1.1.7", ber.integer(7)),
                ("1.3.6.1.2.1.2.2.1.8.7", ber.integer(state)),
            ],
            confirmed=False,
        )
        for oid, state in ((LINK_DOWN, 2), (LINK_UP, 1))
    ]
    begun = time.monotonic()
    turns = itertools.cycle(zip(itertools.cycle(outlets), itertools.cycle(messages), strict=False))
    for place in range(RATE * SECONDS):
        outlet, message = next(turns)
        outlet.sendto(message, ("127.0.0.1", PORT))
        ahead = place / RATE - (time.monotonic() - begun)
        if ahead > 0.005:
            time.sleep(ahead)
    took = time.monotonic() - begun
    for outlet in outlets:
        outlet.close()
    return took


def _taken(url: str) -> dict[str, int]:
    with psycopg.connect(url) as asked:
        row = asked.execute("SELECT detail FROM operation_process WHERE kind = 'receiver'").fetchone()
    return dict(row[0]) if row else {}


def traps() -> None:
    """How many traps a receiver takes, and what each costs."""
    with database() as url:
        env = {**os.environ, "LUMTAR_DATABASE_URL": url, "LUMTAR_TRAP_PORT": str(PORT)}
        subprocess.run([sys.executable, "-c", "import bench.traps; bench.traps.fill()"], env=env, check=True)
        with process("lumtar.engine.receiver", env=env) as running:
            while "heard" not in _taken(url):
                time.sleep(0.5)
            before, database_before = cpu(running.pid), postgres_cpu()
            took = _send()
            time.sleep(8)
            spent, stored = cpu(running.pid) - before, postgres_cpu() - database_before
            told = _taken(url)
        sent = RATE * SECONDS
        report(
            "Traps",
            [
                Figure("sent", sent / took, "/s"),
                Figure("taken of what was sent", 100 * told.get("taken", 0) / sent, "%", "100"),
                Figure("dropped since too many waited", told.get("dropped", 0), ""),
                Figure("receiver's processor for each", 1e6 * spent / sent, "µs"),
                Figure("database's processor for each", 1e6 * stored / sent, "µs"),
            ],
        )
