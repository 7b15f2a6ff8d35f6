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

from bench.ports import free_port
from bench.serving import Api, browser, sign_in, token, wait_for
from bench.setting import Figure, database, process, report
from lumtar.engine.prober.clockwork import Clockwork
from lumtar.engine.prober.reflector import Reflector
from lumtar.engine.prober.sessions import INTERVAL_S, Spec
from lumtar.wire.stamped import StampedSocket

PORT, SECONDS, A_SECOND = 9862, 250, 1000
YEAR_HOURS, MANY = 8760, 10_000


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


FILL_MANY = """
import django
django.setup()
from django.contrib.auth.models import User
from bench.paths import fill_many
User.objects.create_superuser("demo", password="oskelund")
fill_many()
"""


def many() -> None:
    """The list of ten thousand paths with an hour and with a day of each, as the API answers; and in a browser."""
    with database() as url:
        env = {"LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-c", FILL_MANY], env={**os.environ, **env}, check=True)
        port = free_port()
        arguments = ("lumtar.server.asgi:application", "--port", str(port), "--log-level", "error")
        with process("uvicorn", *arguments, env=env):
            client = Api(port, token(url, "demo"))
            took = {}
            for hours in (1, 24):
                start = f"{datetime.now(UTC) - timedelta(hours=hours):%Y-%m-%dT%H:%M:%SZ}"
                answers = []
                for _ in range(4):
                    begun = time.perf_counter()
                    assert len(json.loads(client.get(f"paths?start={start}"))) == MANY
                    answers.append(time.perf_counter() - begun)
                took[hours] = float(np.median(answers[1:]))
            with browser() as page:
                base = f"http://127.0.0.1:{port}"
                sign_in(page, base)
                begun = time.perf_counter()
                page.goto(f"{base}/paths?span=1h")
                page.get_by_text("The worst 300").wait_for()
                opened = time.perf_counter() - begun
                begun = time.perf_counter()
                page.get_by_label("Search paths").fill("path 77")
                page.get_by_text("of 10,000").wait_for()
                found = time.perf_counter() - begun
    report(
        f"List of {MANY:,} paths",
        [
            *(
                Figure(f"over {hours} h as the API answers, median of 3", seconds, "s")
                for hours, seconds in took.items()
            ),
            Figure("over 1 h, opened in a browser", opened, "s"),
            Figure("found by a word in a browser", found, "s"),
        ],
    )


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


def fill_many() -> None:
    """Store ten thousand paths with minutes of two hours and hours of a day, and join them as the worker does."""
    from lumtar.domain.paths import levels, store
    from lumtar.domain.paths.models import Path

    Path.objects.bulk_create(Path(name=f"path {n}", address="127.0.0.1", every_ms=10_000) for n in range(MANY))
    numbers = np.array(Path.objects.values_list("pk", flat=True))
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    dice = np.random.default_rng(4)
    for table in levels.LEVELS:
        table.ensure(now - timedelta(days=2), now)
    hour = now.replace(minute=0)
    times = [(store.HOURS, hour - timedelta(hours=ago), 360) for ago in range(25, 1, -1)]
    times += [(store.MINUTES, now - timedelta(minutes=ago), 6) for ago in range(120, 0, -1)]
    for table, at, sent in times:
        rows = np.zeros(MANY, store.ROW)
        rows["path"], rows["at"], rows["sent"] = numbers, at.timestamp(), sent
        for name in store.FLOATS:
            rows[name] = 20_000.0
        rows["longest"] += dice.gamma(9, 200, MANY)
        store.append(rows, table=table)
    levels.work_off(now - timedelta(minutes=2))


def fill_year(numbers: list[int]) -> None:
    """Store a year of hours of some paths, and join them to days."""
    from lumtar.domain.paths import levels, store

    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    begin = now - timedelta(hours=YEAR_HOURS)
    for table in (store.HOURS, store.DAYS):
        table.ensure(begin, now)
    dice = np.random.default_rng(3)
    for path in numbers:
        rows = np.zeros(YEAR_HOURS, store.ROW)
        rows["path"], rows["at"], rows["sent"] = path, begin.timestamp() + 3600 * np.arange(YEAR_HOURS), 3600
        for name in store.FLOATS:
            rows[name] = dice.gamma(9, 2000, YEAR_HOURS)
        store.append(rows, table=store.HOURS)
    for day in range(YEAR_HOURS // 24 + 1):
        levels.roll_up(store.DAYS, begin.replace(hour=0) + timedelta(days=day))


if __name__ == "__main__":
    threading.Timer(2 * SECONDS, lambda: os._exit(0)).start()
    reflect()
