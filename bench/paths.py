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
from lumtar.engine.prober.clockwork import Clockwork
from lumtar.engine.prober.reflector import Reflector
from lumtar.engine.prober.sessions import INTERVAL_S, Spec
from lumtar.wire.stamped import StampedSocket

PORT, SECONDS, A_SECOND = 9862, 250, 1000
YEAR_HOURS, TIMES, MANY = 8760, 10, 10_000


def reflect() -> None:
    """Answer until the process is ended."""
    inlet = StampedSocket("127.0.0.1", PORT)
    reflector = Reflector(inlet)
    print("ready", flush=True)
    while True:
        reflector.take()
        time.sleep(0.0005)


def _probe(paths: int) -> tuple[np.ndarray, float, float, float]:
    """The prober's own thread for some minutes: round trips in microseconds, probes sent a second and the share lost over whole minutes, and of a core."""
    clockwork = Clockwork(None)
    clockwork.start()
    clockwork.want([Spec(n, "127.0.0.1", PORT, every_s=paths / A_SECOND) for n in range(1, paths + 1)])
    begun, told = time.process_time(), []
    for _ in range(SECONDS):
        time.sleep(1)
        told += clockwork.closed()
    spent = (time.process_time() - begun) / SECONDS
    clockwork.end()
    # The minute in which it began is not whole, and not all paths have closed the last one.
    minutes = sorted({at for _, at, _ in told})[1:-1]
    whole = [each for _, at, each in told if at in minutes]
    sent, lost = sum(each.sent for each in whole), sum(each.lost for each in whole)
    trips = np.concatenate(
        [np.repeat(each.quantiles, each.sent - each.lost) for each in whole if each.sent > each.lost]
    )
    return trips, sent / (INTERVAL_S * len(minutes)), lost / sent, spent


def paths() -> None:
    """How exact probes are, and what they cost."""
    figures = []
    for number in (100, 10_000):
        with process("bench.paths", ready=True):
            trips, sent, lost, spent = _probe(number)
        words = f"{number:,} paths, {A_SECOND:,} probes/s"
        figures += [
            Figure(f"{words}: error, median", float(np.median(trips)), "µs", "50"),
            Figure(f"{words}: error, 95th percentile", float(np.percentile(trips, 95)), "µs"),
            Figure(f"{words}: sent", sent, "/s", f"{A_SECOND:,}"),
            Figure(f"{words}: lost", 100 * lost, "%", "0"),
            Figure(f"{words}: of a core", 100 * spent, "%", "100"),
        ]
    report("Probes of paths", figures)


def kept() -> None:
    """How soon what is stored of paths is read."""
    with database() as url:
        env = {**os.environ, "LUMTAR_DATABASE_URL": url}
        told = subprocess.run(
            [sys.executable, "-c", "import bench.paths; bench.paths.stored()"],
            env=env,
            check=True,
            stdout=subprocess.PIPE,
        )
    took = json.loads(told.stdout.splitlines()[-1])
    figures = [
        Figure("a year of a path is read, median", float(np.median(took["year"])), "ms", "100"),
        Figure(f"{MANY:,} paths of an hour are read and joined, median", float(np.median(took["many"])) / 1000, "s"),
    ]
    report("Paths as they are stored", figures)


def stored() -> None:
    """Print how long questions about what is stored took, in milliseconds, several times each."""
    import django

    django.setup()
    print(json.dumps({"year": _year(), "many": _many()}))


def _many() -> list[float]:
    """Store an hour of ten thousand paths, and put it together as their list does."""
    from datetime import UTC, datetime, timedelta

    from lumtar.domain.paths import store

    now = datetime.now(UTC).replace(second=0, microsecond=0)
    begin = now - timedelta(hours=1)
    store.MINUTES.ensure(begin, now)
    dice = np.random.default_rng(4)
    for minute in range(60):
        rows = np.zeros(MANY, store.ROW)
        rows["path"], rows["at"], rows["sent"] = np.arange(1, MANY + 1), begin.timestamp() + 60 * minute, 6
        for name in store.TRIPS:
            rows[name] = 20_000.0
        rows["longest"] += dice.gamma(9, 200, MANY)
        store.append(rows)
    took = []
    for _ in range(3):
        started = time.perf_counter()
        whole, late = store.read_level(range(1, MANY + 1), begin, now)
        assert len(store.joined(np.concatenate((whole, late)))) == MANY
        took.append(1000 * (time.perf_counter() - started))
    return took


def _year() -> list[float]:
    """Store a year of hours of ten paths, and read one of them."""
    from datetime import UTC, datetime, timedelta

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
        store.append(rows, table=store.HOURS)
    took = []
    for _ in range(TIMES):
        started = time.perf_counter()
        found, _ = store.course(5, begin, now)
        took.append(1000 * (time.perf_counter() - started))
        assert len(found) == YEAR_HOURS
    return took


if __name__ == "__main__":
    threading.Timer(2 * SECONDS, lambda: os._exit(0)).start()
    reflect()
