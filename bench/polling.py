"""The poll engine beside a bare read loop, and whole cycles of large fleets."""

import json
import subprocess
import sys
import time
from contextlib import ExitStack

import psycopg

from bench.setting import Figure, cpu, database, postgres_cpu, process, report

COLUMNS = 16


def seed(url: str, devices: int, ports: int, interval: int) -> None:
    """Devices and interfaces as if they had been discovered before."""
    env = {"LUMTAR_DATABASE_URL": url}
    words = ["bench.seed", str(devices), str(ports), str(interval)]
    with process(*words, env=env) as child:
        if child.wait():
            raise SystemExit("the bench's devices could not be written")


Connection = psycopg.Connection[tuple[object, ...]]


def _read_once(asking: Connection) -> int:
    """Interfaces that have been read."""
    row = asking.execute("SELECT count(*) FROM readings_newest").fetchone()
    return int(str(row[0])) if row else 0


def standing(asking: Connection, since: float) -> dict[str, float]:
    """What the collector that was started then said of itself last."""
    row = asking.execute(
        "SELECT detail FROM operation_process WHERE name = 'collector' AND started_at >= to_timestamp(%s)", [since]
    ).fetchone()
    detail = row[0] if row else {}
    return detail if isinstance(detail, dict) else json.loads(str(detail or "{}"))


def collect(devices: int, ports: int, interval: int, warm: float, measured: float) -> dict[str, float]:
    """Run stand-ins, database and collector together; what happened in the measured time."""
    total = warm + measured + 60 + devices * 0.1
    # Stand-ins that keep their counters for longer would be agents that refresh on demand, and take minutes to be learnt.
    with (
        database() as url,
        process("bench.fleet", str(devices), str(ports), str(total * 3), "0.05", ready=True) as fleet,
    ):
        seed(url, devices, ports, interval)
        env = {"LUMTAR_DATABASE_URL": url}
        with psycopg.connect(url, autocommit=True) as asking, ExitStack() as stack:
            # A new fleet is described first, which takes longer than to poll it; it is known to the collector that is measured.
            began, limit = time.time(), 120 + devices * 0.2
            with process("lumtar.engine.collector", env=env):
                while _read_once(asking) < devices * ports and time.time() < began + limit:
                    time.sleep(1)
            described, started = time.time() - began, time.time()
            collector = stack.enter_context(process("lumtar.engine.collector", env=env))
            while standing(asking, started).get("polls", 0) < devices and time.time() < started + limit:
                time.sleep(1)
            all_polled = time.time() - started
            time.sleep(warm)
            before = {
                "collector": cpu(collector.pid),
                "fleet": cpu(fleet.pid),
                "database": postgres_cpu(),
                **standing(asking, started),
            }
            began = time.time()
            time.sleep(measured)
            ended = time.time()
            after = {
                "collector": cpu(collector.pid),
                "fleet": cpu(fleet.pid),
                "database": postgres_cpu(),
                **standing(asking, started),
            }
            rows = asking.execute(
                "SELECT count(*), count(DISTINCT interface_id), max(elapsed_ms) FROM readings_reading"
                " WHERE at > to_timestamp(%s) AND at <= to_timestamp(%s)",
                [began - 5, ended - 5],
            ).fetchone()
    assert rows is not None
    seconds = ended - began
    used = {name: (after[name] - before[name]) / seconds for name in ("collector", "fleet", "database")}
    polls = after["polls"] - before["polls"]
    return {
        **used,
        "polls": polls,
        "varbinds": after["varbinds"] - before["varbinds"],
        "seconds": seconds,
        "described": described,
        "all_polled": all_polled,
        "lag": after["lag_s"],
        "waiting": after["waiting_rows"],
        "skipped": after.get("skipped", 0) - before.get("skipped", 0),
        "silent": after.get("silent", 0) - before.get("silent", 0),
        "rows": float(str(rows[0])),
        "interfaces": float(str(rows[1])),
        "longest_ms": float(str(rows[2])),
    }


def bare(devices: int, ports: int) -> float:
    """Variable bindings that the bare read loop reads in a CPU second."""
    with process("bench.fleet", str(devices), str(ports), "120", ready=True):
        words = [sys.executable, "-m", "bench.bare", str(devices), str(ports), "8"]
        out = subprocess.run(words, capture_output=True, text=True, check=True)
    binds, seconds = map(float, out.stdout.split())
    return binds / seconds


def poll(devices: int = 300, ports: int = 50) -> None:
    """Variable bindings per CPU second of the collector, beside the bare read loop."""
    before = bare(devices, ports)
    # How each agent counts is learnt once, with the second reading; what is measured is the time after that.
    used = collect(devices, ports, 10, warm=40, measured=40)
    # The machine's speed drifts: the loop is run on both sides of what it is compared with.
    loop = (before + bare(devices, ports)) / 2
    read = used["varbinds"] / used["seconds"]
    through, with_database = read / used["collector"], read / (used["collector"] + used["database"])
    report(
        "poll engine: what a CPU second reads",
        [
            Figure("variable bindings of a poll", used["varbinds"] / used["polls"], ""),
            Figure("bare read loop", loop, "varbinds / CPU-s"),
            Figure("collector, to the database", through, "varbinds / CPU-s"),
            Figure("collector and database together", with_database, "varbinds / CPU-s"),
            Figure("collector's CPU against the bare loop's", loop / through, "times", "at most 2"),
            Figure("the same with the database's CPU", loop / with_database, "times"),
        ],
    )


def cycle(devices: int = 2000, ports: int = 50) -> None:
    """One fleet at an interval of 60 s, stand-ins and database on the same machine."""
    used = collect(devices, ports, 60, warm=75, measured=120)
    wanted = devices * ports
    report(
        f"cycle {wanted // 1000}k: {devices:,} devices x {ports} interfaces x {COLUMNS} columns every 60 s",
        [
            Figure("a new fleet described and read", used["described"], "s"),
            Figure("all of it polled after the collector was started again", used["all_polled"], "s", "about 60"),
            Figure("interfaces read", used["interfaces"], "", f"{wanted:,}"),
            Figure("readings a minute", used["rows"] * 60 / used["seconds"], "", f"{wanted:,}"),
            Figure("polls skipped", used["skipped"], "", "0"),
            Figure("polls without an answer", used["silent"], "", "0"),
            Figure("longest time between two readings", used["longest_ms"] / 1000, "s", "about 60"),
            Figure("collector behind its schedule at the end", used["lag"], "s", "below 1"),
            Figure("collector's CPU", 100 * used["collector"], "% of a core"),
            Figure("database's CPU", 100 * used["database"], "% of a core"),
            Figure("stand-ins' CPU", 100 * used["fleet"], "% of a core"),
        ],
    )


def largest() -> None:
    """A quarter of a million interfaces."""
    cycle(5000, 50)
