"""Flow records: ``./lumtar bench flows``.

Twenty exporters send IPFIX for ten seconds to a receiver that is a process of its own, at rates that rise.
"""

import os
import socket
import subprocess
import sys
import time

import numpy as np
import psycopg

from bench.setting import Figure, cpu, database, postgres_cpu, process, report
from lab.flow_encoding import Encoder
from lumtar.core.flows.records import MAPPED, empty

EXPORTERS, SECONDS, PORT = 20, 10, 9478
RATES = (50_000, 100_000, 200_000, 300_000)
ROWS = 15_000
"""Records of an exporter's turn: clients, servers and services as a busy network has them."""


def _address(number: int) -> str:
    return f"127.67.0.{number + 1}"


def fill() -> None:
    """Devices with two ports each."""
    import django

    django.setup()
    from lumtar.domain.inventory.models import Interface
    from lumtar.domain.inventory.services import add_device

    for number in range(EXPORTERS):
        device = add_device(_address(number), name=f"exporter-{number}", kind="v2c", secret={"community": "word"})
        Interface.objects.bulk_create(Interface(device=device, if_index=n, name=f"g{n}", label=f"g{n}") for n in (1, 2))


def _datagrams(dice: np.random.Generator, now: float) -> list[bytes]:
    records = empty(ROWS)
    # Few servers have most of the traffic, and clients come again and again.
    records["src_lo"] = MAPPED | 0x0A000000 | dice.zipf(1.3, ROWS).clip(1, 60_000).astype("u8")
    records["dst_lo"] = MAPPED | 0xC6336400 | dice.zipf(1.5, ROWS).clip(1, 250).astype("u8")
    records["octets"], records["packets"] = dice.integers(60, 100_000, ROWS), dice.integers(1, 90, ROWS)
    records["src_port"], records["dst_port"] = (
        dice.integers(1024, 65535, ROWS),
        dice.choice([443, 443, 443, 53, 80, 445, 27015], ROWS),
    )
    records["protocol"], records["input"], records["output"], records["direction"] = 6, 1, 2, 0
    records["end"] = now - dice.uniform(0, 5, ROWS)
    records["start"] = records["end"] - dice.exponential(8, ROWS).clip(0, 55)
    return Encoder("ipfix").datagrams(records, now, now - 1000)


def _records_in(turn: list[bytes]) -> list[int]:
    """How many of a turn's records, which are all of one length, each datagram has; templates have none."""
    octets = [len(data) - 20 if int.from_bytes(data[16:18], "big") >= 256 else 0 for data in turn]
    counts = [each * ROWS // sum(octets) for each in octets]
    assert sum(counts) == ROWS
    return counts


def _send(rate: int) -> tuple[int, float]:
    """Send at a rate. Returns how many records were sent, and the seconds that it took."""
    dice = np.random.default_rng(7)
    turns = [_datagrams(dice, time.time()) for _ in range(EXPORTERS)]
    outlets = []
    for number in range(EXPORTERS):
        outlet = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        outlet.bind((_address(number), 0))
        outlets.append(outlet)
    sizes = [_records_in(turn) for turn in turns]
    sent, begun = 0, time.monotonic()
    while sent < rate * SECONDS:
        for outlet, turn, counted in zip(outlets, turns, sizes, strict=True):
            for data, size in zip(turn, counted, strict=True):
                outlet.sendto(data, ("127.0.0.1", PORT))
                sent += size
            ahead = sent / rate - (time.monotonic() - begun)
            if ahead > 0.002:
                time.sleep(ahead)
            if sent >= rate * SECONDS:
                break
    took = time.monotonic() - begun
    for outlet in outlets:
        outlet.close()
    return sent, took


def _progress(url: str) -> dict[str, int]:
    with psycopg.connect(url) as asked:
        row = asked.execute("SELECT detail FROM operation_process WHERE kind = 'flows'").fetchone()
    return dict(row[0]) if row else {}


def flows() -> None:
    """How many records a second are added up and stored, without loss."""
    figures = []
    with database() as url:
        env = {**os.environ, "LUMTAR_DATABASE_URL": url, "LUMTAR_FLOW_PORTS": str(PORT)}
        subprocess.run([sys.executable, "-c", "import bench.flows; bench.flows.fill()"], env=env, check=True)
        for rate in RATES:
            with process("lumtar.engine.flows", env=env) as running:
                while "received" not in _progress(url):
                    time.sleep(0.5)
                time.sleep(6)
                cpu_before, stored_before = cpu(running.pid), postgres_cpu()
                sent, took = _send(rate)
                time.sleep(12)
                told = _progress(url)
                spent = cpu(running.pid) - cpu_before + postgres_cpu() - stored_before
            with psycopg.connect(url) as asked:
                rows = asked.execute(
                    "SELECT count(*), coalesce(sum(flows) FILTER (WHERE way = 0), 0) FROM flows_minute"
                ).fetchone()
                asked.execute("DELETE FROM flows_minute")
                asked.execute("DELETE FROM operation_process")
            taken = told.get("records", 0)
            figures += [
                Figure(f"{rate:,} records/s wanted: sent", sent / took, "/s"),
                Figure(f"{rate:,} records/s wanted: lost", 100 * (1 - taken / sent), "%", "0"),
                Figure(
                    f"{rate:,} records/s wanted: records per CPU-second, receiver and database",
                    taken / max(0.1, spent),
                    "",
                    "600,000",
                ),
                Figure(f"{rate:,} records/s wanted: rows stored", float(rows[0] if rows else 0), ""),
            ]
    report("Flow records", figures)


DRILL_HOURS, DRILL_ROWS, QUESTIONS = 26, 260, 60
"""Rows of an interface, way and hour as twenty thousand flows a second leave them: the largest one by one, the rest by application."""


def drill() -> None:
    """Fill a day, ask for it in many ways, and print how long each question took, in milliseconds."""
    import json
    from datetime import UTC, datetime, timedelta

    import django

    django.setup()
    from lumtar.core.flows.totals import CONVERSATION
    from lumtar.domain.flows import queries, store
    from lumtar.domain.flows.asking import Asked
    from lumtar.domain.inventory.models import Device, Interface

    ports = list(Interface.objects.values_list("pk", flat=True))
    dice, now = np.random.default_rng(3), datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    for table in (store.HOURS, store.NETWORK_HOURS):
        table.ensure(now - timedelta(hours=DRILL_HOURS), now)
    for ago in range(1, DRILL_HOURS):
        rows = np.zeros(len(ports) * 2 * DRILL_ROWS, CONVERSATION)
        n = len(rows)
        rows["minute"] = int((now - timedelta(hours=ago)).timestamp() // 60)
        rows["interface"], rows["way"] = np.repeat(ports, 2 * DRILL_ROWS), np.tile([0, 1], n // 2)
        rows["src_lo"] = MAPPED | 0x0A000000 | dice.integers(1, 60_000, n).astype("u8")
        rows["dst_lo"] = MAPPED | 0xC6336400 | dice.integers(1, 250, n).astype("u8")
        rows["octets"], rows["packets"], rows["flows"] = dice.integers(1, 10**9, n), 9, 3
        rows["application"], rows["protocol"], rows["port"] = dice.integers(0, 20, n), 6, dice.integers(1, 9000, n)
        rows["src_site"], rows["is_counted"] = dice.integers(0, 24, n), dice.integers(0, 2, n)
        store.append(rows, table=store.HOURS)
        store.sum_network_up(now - timedelta(hours=ago), now - timedelta(hours=ago - 1))
    for ago in range(1, DRILL_HOURS, 23):
        for table in (store.HOURS, store.NETWORK_HOURS):
            table.analyse(now - timedelta(hours=ago))
    device = Device.objects.values_list("pk", flat=True)[0]
    scopes = [Asked(), Asked(interface=ports[0], way=0), Asked(device=device)]
    scopes += [Asked(application=3), Asked(site=4), Asked(address="198.51.100.7")]
    took = []
    for number in range(QUESTIONS):
        begun = time.perf_counter()
        by = list(queries.BY)[number % len(queries.BY)]
        queries.read(scopes[number % len(scopes)], by, now - timedelta(days=1), now)
        took.append(1000 * (time.perf_counter() - begun))
        if os.environ.get("LUMTAR_BENCH_WORDS"):
            print(f"{took[-1]:.0f} ms by {by}: {scopes[number % len(scopes)]}", file=sys.stderr)
    print(json.dumps(took))


def drills() -> None:
    """How long a drill into a day takes."""
    import json

    with database() as url:
        env = {**os.environ, "LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-c", "import bench.flows; bench.flows.fill()"], env=env, check=True)
        told = subprocess.run(
            [sys.executable, "-c", "import bench.flows; bench.flows.drill()"],
            env=env,
            check=True,
            stdout=subprocess.PIPE,
        )
    took = np.array(json.loads(told.stdout.splitlines()[-1]))
    report(
        "Drills into a day of flows",
        [
            Figure("median", float(np.median(took)), "ms"),
            Figure("95th percentile", float(np.percentile(took, 95)), "ms", "300"),
            Figure("slowest", float(took.max()), "ms"),
        ],
    )
