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
from datetime import UTC, datetime, timedelta

import numpy as np

from bench.serving import browser, free_port, sign_in, wait_for
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


FILL_YEAR = """
import django
django.setup()
from django.contrib.auth.models import User
from bench.paths import fill_year
from lumtar.domain.paths.models import Path
User.objects.create_superuser("demo", password="oskelund")
Path.objects.bulk_create(Path(name=f"path {n}", kind="icmp", address="127.0.0.1") for n in range(1, 11))
fill_year(list(Path.objects.values_list("pk", flat=True)))
"""
DRAWN = """(row, name) => new Promise((resolve) => {
    const began = performance.now();
    const look = () => {
        const heading = document.querySelector("[aria-label=Path] h1");
        const canvas = heading?.textContent === name ? document.querySelector(".uplot canvas") : null;
        const pixels = canvas?.getContext("2d").getImageData(0, 0, canvas.width, canvas.height).data;
        if (pixels?.some((value) => value !== 0)) {
            const call = performance.getEntriesByType("resource").findLast(({ name }) => /paths.[0-9]+/.test(name));
            resolve([performance.now() - began, call.duration, performance.now() - call.responseEnd, call.encodedBodySize]);
        } else requestAnimationFrame(look);
    };
    row.click();
    requestAnimationFrame(look);
})"""


def year() -> None:
    """A year of a path in a browser: from the click on it to its charts."""
    with database() as url:
        env = {"LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-c", FILL_YEAR], env={**os.environ, **env}, check=True)
        port = free_port()
        arguments = ("lumtar.server.asgi:application", "--port", str(port), "--log-level", "error")
        with process("uvicorn", *arguments, env=env), browser() as page:
            wait_for(port)
            base = f"http://127.0.0.1:{port}"
            sign_in(page, base)
            times = []
            for number in range(2, 11):
                page.goto(f"{base}/paths?span=1y")
                row = page.locator(f'a[href^="/paths/{number}?"]')
                row.wait_for()
                page.wait_for_timeout(1000)
                times.append(row.evaluate(DRAWN, f"path {number}"))
    click, asked, drawn, octets = (float(np.median(column)) for column in zip(*times, strict=True))
    report(
        "A year of a path in the browser",
        [
            Figure("from the answer to the drawn chart, median of 9", drawn, "ms", "100"),
            Figure("from the click to the drawn chart, median of 9", click, "ms"),
            Figure("of this the answer of the server", asked, "ms"),
            Figure("octets of the answer", octets, ""),
        ],
    )


def stored() -> None:
    """Print how long questions about what is stored took, in milliseconds, several times each."""
    import django

    django.setup()
    print(json.dumps({"year": _year(), "many": _many()}))


def _many() -> list[float]:
    """Store an hour of ten thousand paths, and put it together as their list does."""
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


def fill_year(numbers: list[int]) -> tuple[datetime, datetime]:
    """Store a year of hours of some paths. Returns its begin and its end."""
    from lumtar.domain.paths import store

    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    begin = now - timedelta(hours=YEAR_HOURS)
    store.HOURS.ensure(begin, now)
    dice = np.random.default_rng(3)
    for path in numbers:
        rows = np.zeros(YEAR_HOURS, store.ROW)
        rows["path"], rows["at"], rows["sent"] = path, begin.timestamp() + 3600 * np.arange(YEAR_HOURS), 3600
        for name in store.FLOATS:
            rows[name] = dice.gamma(9, 2000, YEAR_HOURS)
        store.append(rows, table=store.HOURS)
    return begin, now


def _year() -> list[float]:
    """Read a year of one of ten paths."""
    from lumtar.domain.paths import store

    begin, now = fill_year(list(range(1, 11)))
    took = []
    for _ in range(TIMES):
        started = time.perf_counter()
        found = np.concatenate(store.read_level([5], begin, now))
        whole, _ = store.drawn(found, now - begin)
        took.append(1000 * (time.perf_counter() - started))
        assert whole["sent"].sum() == 3600 * YEAR_HOURS
    return took


if __name__ == "__main__":
    threading.Timer(2 * SECONDS, lambda: os._exit(0)).start()
    reflect()
