"""The store at 20,000 interfaces: writing, summing up, and the calls behind charts, grids and lists.

What is loaded: one whole day of minutes for all interfaces through the real roll-up code, its sums copied back over a
month for all, and over a year for the interfaces whose long charts are asked for.
"""

import os
import random
import subprocess
import sys
import time
from datetime import UTC, datetime, timedelta

import psycopg

from bench.ports import free_port
from bench.serving import Api, token
from bench.setting import Figure, cpu, database, postgres_cpu, process, report

DEVICES, PORTS = 400, 50
INTERFACES = DEVICES * PORTS
LONG = 400
MINUTES = 1440
ROUNDS = 60
DAY = timedelta(days=1)

FILL = "import bench.store; bench.store.fill()"
CLOSE = "import bench.store; bench.store.close({after})"


def yesterday() -> datetime:
    """The day (UTC) that is loaded."""
    return datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0) - DAY


def fill() -> None:
    """Load everything, and say what writing cost."""
    from bench import seed

    seed.main(DEVICES, PORTS, 60)
    seed.newest()
    from django.db import connection

    from lumtar.domain.readings import partitions, rollups
    from lumtar.domain.readings.models import RolledUp

    day = yesterday()
    partitions.ensure(day.date(), day.date(), in_pieces=True)
    partitions.ensure((day - timedelta(days=366)).date(), (day + DAY).date())
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO inventory_site (name) SELECT 'Site ' || n FROM generate_series(1, 4) n;"
            " UPDATE inventory_device d SET site_id = (SELECT id FROM inventory_site ORDER BY id OFFSET d.id % 4 LIMIT 1);"
            " INSERT INTO inventory_interfacespeed (interface_id, since, port_bps, in_bps, out_bps, in_source, out_source)"
            " SELECT id, now() - interval '2 years', 1e9, 1e9, 1e9, 'ifHighSpeed', 'ifHighSpeed' FROM inventory_interface"
        )
        _write_readings(day)
        cursor.execute("ANALYZE readings_reading")
        began, before = time.time(), cpu(os.getpid()) + postgres_cpu()
        rollups.roll_five_minutes(day, day + DAY)
        five = time.time() - began
        rollups.roll_hours(day, day + DAY)
        rollups.roll_day(day)
        print(f"told {time.time() - began} {five} {cpu(os.getpid()) + postgres_cpu() - before}", flush=True)
        RolledUp.objects.update_or_create(pk=1, defaults={"until": day + DAY})
        _copy_back("readings_hour", 30, "")
        _copy_back("readings_day", 30, "")
        few = f"AND interface_id IN (SELECT id FROM inventory_interface ORDER BY id LIMIT {LONG})"
        _copy_back("readings_hour", 365, few, 31)
        _copy_back("readings_day", 365, few, 31)
        cursor.execute("ANALYZE")


def close(after: int) -> None:
    """Bring into order what has closed so many minutes after the day, as the hourly job does; says how long it took.

    Partitions in which nothing was loaded are left alone.
    """
    import django

    django.setup()
    from lumtar.domain.readings import partitions

    began = time.time()
    for partition in partitions.closed(yesterday() + DAY + timedelta(minutes=after)):
        if partition.start >= yesterday() or partition.table in ("readings_hour", "readings_day"):
            assert partitions.rewrite(partition)
    print(f"closed {time.time() - began}", flush=True)


def _write_readings(day: datetime) -> None:
    """A day of minutes; the first hour is written twice, once by a bare COPY, to compare the two."""
    import numpy as np
    from django.db import connection

    from lumtar.core.counters import Counted
    from lumtar.core.ledger import Observation, Status
    from lumtar.domain.inventory.models import Interface
    from lumtar.domain.readings import services

    ids = np.array(Interface.objects.order_by("pk").values_list("pk", flat=True), np.int64)
    n = len(ids)
    chance = np.random.default_rng(5)
    mean = 10 ** chance.uniform(4, 8.5, (n, 2))
    blank, nothing = np.full(n, np.nan), np.zeros((0, n), bool)
    up = np.ones(n, np.int16)
    with connection.cursor() as cursor:
        cursor.execute("CREATE TABLE bare (LIKE readings_reading)")
    spent: dict[str, float] = {}
    for minute in range(MINUTES):
        shape = 1 + 0.6 * np.sin(2 * np.pi * (minute / 1440 - 0.3))
        deltas = np.zeros((n, 12), np.int64)
        deltas[:, :2] = mean * shape * chance.uniform(0.8, 1.2, (n, 2)) * 7.5
        deltas[:, 2] = deltas[:, 0] // 700
        deltas[:, 5] = deltas[:, 1] // 700
        at = day.timestamp() + 60 * minute + (np.arange(n) % 60).astype(np.float64) + 0.5
        seen = Observation(
            ids, at, Counted(deltas, np.full(n, 60_000, np.int32), np.zeros(n, np.int16)),
            Status(up, up, up.astype(np.int64), up.astype(np.int64)), blank, blank, blank, blank,
            np.ones(n, bool), np.zeros(n, bool), np.zeros(n, bool), nothing, nothing,
        )  # fmt: skip
        for table in ("readings_reading", "bare") if minute < 60 else ("readings_reading",):
            before = cpu(os.getpid()) + postgres_cpu()
            services.append(ids, seen, table)
            if minute < 60:
                spent[table] = spent.get(table, 0.0) + cpu(os.getpid()) + postgres_cpu() - before
    with connection.cursor() as cursor:
        cursor.execute("DROP TABLE bare")
    print(f"spent {60 * n / spent['readings_reading']} {60 * n / spent['bare']}", flush=True)


def _copy_back(table: str, last: int, condition: str, first: int = 1) -> None:
    """Copy the sums of the loaded day to the days before it."""
    from django.db import connection

    from lumtar.domain.readings.rollups import COLUMNS

    names = [*COLUMNS, *(("in_p95_bps", "out_p95_bps", "in_means", "out_means") if table == "readings_day" else ())]
    day = yesterday()
    with connection.cursor() as cursor:
        for number in range(first, last + 1):
            cursor.execute(
                f"INSERT INTO {table} (interface_id, at, {', '.join(names)}) SELECT interface_id, at - interval '{number} days', {', '.join(names)}"
                f" FROM {table} WHERE at >= %s AND at < %s {condition} ORDER BY interface_id, at",
                [day, day + DAY],
            )


def store() -> None:
    """Everything, in a database of its own."""
    with database() as url:
        env = {"LUMTAR_DATABASE_URL": url}
        measured = _run(FILL, env) | _run(CLOSE.format(after=10), env)
        with psycopg.connect(url, autocommit=True) as asking:
            # What goes on in the background for hours after a day has been loaded in minutes is done at once.
            asking.execute("VACUUM ANALYZE")
            asking.execute("CHECKPOINT")
            row = asking.execute(
                "SELECT sum(pg_total_relation_size(inhrelid))::float8 / (SELECT count(*) FROM readings_reading)"
                " FROM pg_inherits WHERE inhparent = 'readings_reading'::regclass"
            ).fetchone()
            ids = [int(each[0]) for each in asking.execute("SELECT id FROM inventory_interface ORDER BY id")]
        assert row is not None
        figures = [
            Figure("readings written", measured["spent"][0], "readings / CPU-s"),
            Figure("by a bare COPY without an index", measured["spent"][1], "readings / CPU-s"),
            Figure("CPU against the bare COPY's", measured["spent"][1] / measured["spent"][0], "times", "at most 2"),
            Figure("a stored reading, with its index", row[0], "bytes"),
            Figure("a day of 20,000 summed up: five minutes", measured["told"][1], "s"),
            Figure("all of it, with hours, days and percentiles", measured["told"][0], "s"),
            Figure("23 hours of readings in order, and a year of hours joined", measured["closed"][0], "s"),
        ]
        port = free_port()
        with process("uvicorn", "lumtar.server.asgi:application", "--port", str(port), "--log-level", "error", env=env):
            client = Api(port, token(url, "bench"))
            day = yesterday()
            chance = random.Random(1)
            for name, goal, path in _calls(day):
                pool = ids[:LONG] if "year" in name or "90" in name else ids
                figures.append(Figure(name, _p95(client, path, pool, chance), "ms p95", f"below {goal}"))
            measured = _run(CLOSE.format(after=20), env)
            figures.append(Figure("the last hour, five minutes and hours in order", measured["closed"][0], "s"))
            with psycopg.connect(url, autocommit=True) as asking:
                asking.execute("CHECKPOINT")
            name, goal, path = _calls(day)[0]
            figures.append(
                Figure("a day's chart, once it has closed", _p95(client, path, ids, chance), "ms p95", f"below {goal}")
            )
    report("store: 20,000 interfaces", figures)


def _run(words: str, env: dict[str, str]) -> dict[str, list[float]]:
    """Run a part of this in a process of its own; the figures that it says, by name."""
    command = [sys.executable, "-c", words]
    out = subprocess.run(command, env={**os.environ, **env}, check=True, stdout=subprocess.PIPE, text=True).stdout
    return {line.split()[0]: [float(each) for each in line.split()[1:]] for line in out.splitlines()}


def _moment(at: datetime) -> str:
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


def _calls(day: datetime) -> list[tuple[str, int, str]]:
    end = day + DAY

    def span(length: timedelta) -> str:
        return f"start={_moment(end - length)}&end={_moment(end)}"

    chart = "interfaces/{port}/series?points=1500&"
    return [
        ("a day's chart, its last hour open", 30, chart + span(DAY)),
        ("a month's chart", 80, chart + span(timedelta(days=30))),
        ("90 days' chart", 80, chart + span(timedelta(days=90))),
        ("a year's chart", 80, chart + span(timedelta(days=365))),
        ("grid of 5,000 ports, an hour", 150, "grid?site=Site%201&" + span(timedelta(hours=1))),
        ("grid of 5,000 ports, a day", 150, "grid?site=Site%201&" + span(DAY)),
        ("top list over 20,000, an hour", 300, "top?" + span(timedelta(hours=1))),
        ("top list over 20,000, a day", 300, "top?" + span(DAY)),
        ("top list over 20,000, 23 hours", 300, "top?" + span(DAY - timedelta(hours=1))),
        ("emptiest of 20,000, a week", 1000, "top?by=volume&lowest=true&" + span(timedelta(days=7))),
    ]


def _p95(client: Api, path: str, ids: list[int], chance: random.Random) -> float:
    """Milliseconds that 95 of 100 calls stay below, each of another interface."""
    client.get(path.format(port=ids[0]))
    times = []
    for _ in range(ROUNDS):
        asked = path.format(port=chance.choice(ids))
        began = time.perf_counter()
        client.get(asked)
        times.append(1000 * (time.perf_counter() - began))
    return sorted(times)[int(ROUNDS * 0.95)]
