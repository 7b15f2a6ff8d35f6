"""Probes of paths: ``./lumtar bench paths``.

A reflector in a process of its own answers a thousand probes a second on loopback, first over a hundred paths, then over ten thousand. On loopback a packet
takes a few microseconds, so what is measured as round trip is nearly all error.
"""

import json
import os
import subprocess
import sys
import threading
import time

import numpy as np

from bench.setting import Figure, database, process, report
from lumtar.engine.prober.reflector import Reflector
from lumtar.engine.prober.sessions import Sessions, Spec
from lumtar.wire.stamped import StampedSocket

PORT, SECONDS, A_SECOND = 9862, 20, 1000
YEAR_HOURS, TIMES = 8760, 10


def reflect() -> None:
    """Answer until the process is ended."""
    inlet = StampedSocket("127.0.0.1", PORT)
    reflector = Reflector(inlet)
    print("ready", flush=True)
    while True:
        reflector.take()
        time.sleep(0.0005)


def _probe(paths: int) -> tuple[np.ndarray, int, int, float]:
    """Round trips in microseconds, probes sent and lost, and the CPU seconds that it took."""
    outlet = StampedSocket("127.0.0.1")
    sessions = Sessions(outlet)
    sessions.renew([Spec(n, "127.0.0.1", PORT, every_s=paths / A_SECOND) for n in range(1, paths + 1)], time.time())
    begun, until = time.process_time(), time.monotonic() + SECONDS
    while time.monotonic() < until:
        due = sessions.send(time.time())
        sessions.take()
        time.sleep(max(0.0, min(0.001, due - time.time())))
    time.sleep(0.2)
    sessions.take()
    spent = time.process_time() - begun
    told = [each for _, _, each in sessions.closed(time.time() + 200)]
    outlet.close()
    trips = np.concatenate(
        [np.repeat(each.quantiles, max(0, each.sent - each.lost)) for each in told if each.sent > each.lost]
    )
    return trips, sum(each.sent for each in told), sum(each.lost for each in told), spent


def paths() -> None:
    """How exact probes are, what they cost, and how soon a year of a path is read."""
    figures = []
    for number in (100, 10_000):
        with process("bench.paths", ready=True):
            trips, sent, lost, spent = _probe(number)
        words = f"{number:,} paths, {A_SECOND:,} probes/s"
        figures += [
            Figure(f"{words}: error, median", float(np.median(trips)), "µs", "50"),
            Figure(f"{words}: error, 95th percentile", float(np.percentile(trips, 95)), "µs"),
            Figure(f"{words}: sent", sent / SECONDS, "/s", f"{A_SECOND:,}"),
            Figure(f"{words}: lost", 100 * lost / sent, "%", "0"),
            Figure(f"{words}: of a core", 100 * spent / SECONDS, "%", "100"),
        ]
    with database() as url:
        env = {**os.environ, "LUMTAR_DATABASE_URL": url}
        told = subprocess.run(
            [sys.executable, "-c", "import bench.paths; bench.paths.year()"],
            env=env,
            check=True,
            stdout=subprocess.PIPE,
        )
    took = json.loads(told.stdout.splitlines()[-1])
    figures.append(Figure("a year of a path is read, median", float(np.median(took)), "ms", "100"))
    report("Probes of paths", figures)


def year() -> None:
    """Store a year of hours of ten paths, read one of them several times, and print how long that took, in milliseconds."""
    from datetime import UTC, datetime, timedelta

    import django

    django.setup()
    from lumtar.domain.paths import store

    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    begin = now - timedelta(hours=YEAR_HOURS)
    store.HOURS.ensure(begin, now)
    dice = np.random.default_rng(3)
    for path in range(1, 11):
        rows = np.zeros(YEAR_HOURS, store.ROW)
        rows["path"], rows["at"], rows["sent"] = path, begin.timestamp() + 3600 * np.arange(YEAR_HOURS), 3600
        for name in store.FLOATS:
            rows[name] = dice.gamma(9, 2000, YEAR_HOURS)
        store.append(rows, store.HOURS)
    took = []
    for _ in range(TIMES):
        started = time.perf_counter()
        found, _ = store.course(5, begin, now)
        took.append(1000 * (time.perf_counter() - started))
        assert len(found) == YEAR_HOURS
    print(json.dumps(took))


if __name__ == "__main__":
    threading.Timer(10 * SECONDS, lambda: os._exit(0)).start()
    reflect()
