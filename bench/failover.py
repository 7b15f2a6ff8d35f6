"""From a transport that fails to the move that is noted: ``./lumtar bench failover``.

A demonstration of its own, with a day of history. Cables of transports are pulled and plugged in again at moments that a seed
decides; each time the sites that used them have to move within one interval, which is a minute.
"""

import random
import shutil
import tempfile
import time
from pathlib import Path

import psycopg

from bench.faults import Installation
from bench.setting import Figure, report

ROUNDS, INTERVAL_S, MOST_S = 6, 60.0, 240.0
SITES = ("hex-wan-1", "sal-wan-1", "pel-wan-1")
MOVED = """SELECT 1 FROM paths_move m JOIN paths_transport t ON t.id = m.from_transport_id
    JOIN inventory_interface i ON i.id = t.interface_id JOIN inventory_device d ON d.id = i.device_id
    WHERE m.at >= to_timestamp(%s) AND d.name = %s AND m.service_class_id IS NULL"""


def _until_moved(asking: psycopg.Connection[object], device: str, since: float) -> float:
    """Seconds from a fault until traffic of a device's site has moved."""
    while (took := time.time() - since) < MOST_S:
        if asking.execute(MOVED, [since, device]).fetchone():
            return took
        time.sleep(0.25)
    raise SystemExit(f"bench failover: {device} did not move within {MOST_S:.0f} s")


def failover() -> None:
    """How soon a move is noted after its cause."""
    dice = random.Random(7)
    folder = Path(tempfile.mkdtemp(prefix="lumtar-failover-"))
    target = Installation(folder)
    target.environment["LUMTAR_DEMO_DAYS"] = "1"
    took = []
    try:
        if "Lumtar is ready" not in (printed := target.lumtar("demo", "--background", patience=1200)):
            raise SystemExit(f"bench failover: the demonstration did not start:\n{printed}")
        with target.connect() as asking:
            # Where traffic is when it is looked at first is not a move.
            time.sleep(3 * INTERVAL_S)
            for number in range(ROUNDS):
                device = SITES[number % len(SITES)]
                for state in ("down", "up"):
                    time.sleep(dice.uniform(0, INTERVAL_S))
                    since = time.time()
                    target.lumtar("lab", "link", device, "wan1", state)
                    took.append(_until_moved(asking, device, since))
                    print(f"  {device} wan1 {state}: {took[-1]:.0f} s", flush=True)
    finally:
        target.lumtar("stop")
        shutil.rmtree(folder, ignore_errors=True)
    report(
        "failover: from a transport that fails to the move",
        [
            Figure("looked at every", INTERVAL_S, "s"),
            Figure(f"fault to move, median of {len(took)}", sorted(took)[len(took) // 2], "s"),
            Figure("the slowest", max(took), "s", f"below {INTERVAL_S:.0f}"),
        ],
    )
