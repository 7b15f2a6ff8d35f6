"""Breaking Lumtar on purpose, again and again: ``./lumtar bench faults``, LUMTAR_FAULTS=N for N of them.

An installation of its own with two collectors, on a disk of its own that can be filled, polls stand-ins whose counters never
stop. Processes are killed and held, the database is killed, stopped and held, the disk is filled, the supervisor is killed and
two are started, at moments that a seed decides. In the end every octet that the stand-ins counted has to be there once, the
sums have to be those of the readings, every alarm has to have been raised once, and health must never have said "all well"
while nothing was stored.
"""

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import psycopg
import yaml

from bench.fleet import COMMUNITY, PORT, address
from bench.ports import free_port
from bench.setting import Figure, process, report

ROOT = Path(__file__).resolve().parents[1]
DEVICES, PORTS, INTERVAL_S = 8, 4, 2
DISK_MIB = 700
CALM_S = 25.0
"""Seconds at the end in which everything has to come to rest."""
STALE_S = 60.0
"""Seconds without a stored reading after which health must not say that all is well."""
OF_OTHERS = ("LUMTAR_DATABASE_URL", "LUMTAR_KEY_FILE", "LUMTAR_KEY", "LUMTAR_MAIL_URL")


class Installation:
    """Lumtar in a folder of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.web = free_port()
        own = {
            "LUMTAR_VAR": str(folder),
            "LUMTAR_WEB_PORT": str(self.web),
            "LUMTAR_DATABASE_PORT": str(free_port()),
            "LUMTAR_TRAP_PORT": str(free_port()),
            "LUMTAR_FLOW_PORTS": str(free_port()),
        }
        self.environment = {name: value for name, value in os.environ.items() if name not in OF_OTHERS} | own

    def lumtar(self, *words: str, typed: str = "", patience: float = 180) -> str:
        """Run one command of the launcher to its end, within seconds."""
        done = subprocess.run(
            [str(ROOT / "lumtar"), *words],
            env=self.environment,
            input=typed,
            text=True,
            capture_output=True,
            timeout=patience,
        )
        return done.stdout + done.stderr

    def start(self) -> None:
        """Start it in the background."""
        printed = self.lumtar("start", "--background", "--collectors", "2")
        if "Lumtar is ready" not in printed and "runs already" not in printed:
            raise SystemExit(f"the installation did not start:\n{printed}")

    def url(self) -> str:
        """The address of its database."""
        text = (self.folder / "database.url").read_text()
        return text.replace("{port}", self.environment["LUMTAR_DATABASE_PORT"])

    def connect(self) -> psycopg.Connection[Any]:
        """A connection to its database."""
        return psycopg.connect(self.url(), autocommit=True, connect_timeout=15)

    def numbers(self, name: str) -> list[int]:
        """Process ids of what the supervisor started under a name."""
        numbers = []
        for each in Path("/proc").glob("[0-9]*"):
            with suppress(OSError):
                environment = (each / "environ").read_bytes().split(b"\0")
                if (
                    f"LUMTAR_SUPERVISED={self.folder}".encode() in environment
                    and f"LUMTAR_INSTANCE={name}".encode() in environment
                ):
                    numbers.append(int(each.name))
        return numbers

    def postmaster(self) -> int | None:
        """The database's first process."""
        with suppress(OSError, ValueError, IndexError):
            return int((self.folder / "postgres" / "postmaster.pid").read_text().splitlines()[0])
        return None

    def family(self, number: int) -> list[int]:
        """A process and its children."""
        with suppress(OSError):
            children = Path(f"/proc/{number}/task/{number}/children").read_text().split()
            return [number, *map(int, children)]
        return []

    def supervisor(self) -> int | None:
        """The launcher that looks after everything."""
        with suppress(OSError, ValueError, KeyError):
            return int(json.loads((self.folder / "run.json").read_text())["pid"])
        return None


def send(numbers: list[int], what: signal.Signals) -> None:
    """Send a signal to processes that may have ended."""
    for number in numbers:
        with suppress(ProcessLookupError):
            os.kill(number, what)


class Faults:
    """What can be done to an installation. Each fault ends by itself."""

    def __init__(self, target: Installation, dice: random.Random) -> None:
        self._target, self._dice = target, dice

    def every(self) -> dict[str, Callable[[], None]]:
        """The faults by name."""
        target = self._target
        faults: dict[str, Callable[[], None]] = {
            f"kill -9 {name}": lambda name=name: send(target.numbers(name), signal.SIGKILL)  # type: ignore[misc]
            for name in ("collector", "collector-2", "worker", "web")
        }
        faults |= {
            "collector held": lambda: self._held(target.numbers("collector"), 5, 16),
            "worker held": lambda: self._held(target.numbers("worker"), 5, 30),
            "worker told to stop": lambda: send(target.numbers("worker"), signal.SIGTERM),
            "database killed": lambda: send([target.postmaster() or 0] if target.postmaster() else [], signal.SIGKILL),
            "database stopped": lambda: send([target.postmaster() or 0] if target.postmaster() else [], signal.SIGQUIT),
            "database held": lambda: self._held(target.family(target.postmaster() or 0), 3, 14),
            "disk full": self._full,
            "supervisor killed": self._unsupervised,
            "two starts": self._twice,
        }
        return faults

    def _held(self, numbers: list[int], least: float, most: float) -> None:
        send(numbers, signal.SIGSTOP)
        try:
            time.sleep(self._dice.uniform(least, most))
        finally:
            send(numbers, signal.SIGCONT)

    def _full(self) -> None:
        filler = self._target.folder / "filler"
        try:
            with suppress(OSError), filler.open("wb") as out:
                while True:
                    out.write(bytes(1 << 20))
                    out.flush()
            time.sleep(self._dice.uniform(4, 12))
        finally:
            filler.unlink(missing_ok=True)

    def _unsupervised(self) -> None:
        number = self._target.supervisor()
        if number:
            send([number], signal.SIGKILL)
            time.sleep(self._dice.uniform(0.5, 4))
        self._target.start()

    def _twice(self) -> None:
        threads = [threading.Thread(target=self._target.start) for _ in range(2)]
        for each in threads:
            each.start()
        for each in threads:
            each.join()


class Watch:
    """Looks at health every second, and at what it should have said."""

    def __init__(self, target: Installation) -> None:
        self._target = target
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._work)
        self.looks = self.not_well = 0
        self.lies: list[str] = []

    @contextmanager
    def watching(self) -> Iterator[None]:
        """Look meanwhile."""
        self._thread.start()
        try:
            yield
        finally:
            self._ending.set()
            self._thread.join()

    def _work(self) -> None:
        while not self._ending.wait(1.0):
            said = self._said()
            self.looks += 1
            self.not_well += not said
            with suppress(psycopg.Error), self._target.connect() as asking:
                row = asking.execute(
                    "SELECT extract(epoch FROM now() - max(at)) FROM readings_devicereading"
                ).fetchone()
                if said and row and row[0] is not None and float(row[0]) > STALE_S:
                    self.lies.append(f"health was well while the newest reading was {float(row[0]):.0f} s old")

    def _said(self) -> bool:
        """Whether health says that all is well, but for the disk, which is small on purpose."""
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{self._target.web}/api/v1/health", timeout=4) as answer:
                return all(trouble["subject"] == "disk" for trouble in json.load(answer)["troubles"])
        except (OSError, ValueError, KeyError, urllib.error.URLError):
            return False


BASE = "SELECT interface_id, counters[1], extract(epoch FROM base_at)::float8 FROM readings_newest"
COUNTED = """SELECT n.interface_id, n.counters[1], (SELECT coalesce(sum(in_octets), 0) FROM readings_reading r
    WHERE r.interface_id = n.interface_id AND r.at > to_timestamp(%s) AND r.at <= n.base_at) FROM readings_newest n WHERE n.interface_id = %s"""
DOUBLES = """SELECT count(*) FROM readings_reading a JOIN readings_reading b USING (interface_id) WHERE a.at < b.at AND a.elapsed_ms > 0
    AND b.elapsed_ms > 0 AND b.at - b.elapsed_ms * interval '1 millisecond' < a.at - interval '900 milliseconds'"""
SUMS = """SELECT count(*) FROM (SELECT interface_id, date_bin('5 minutes', at - interval '1 microsecond', '2000-01-01T00:00:00Z') AS five,
        sum(in_octets) AS octets FROM readings_reading
        WHERE at <= (SELECT least((SELECT max(until) FROM readings_rolledup), (SELECT min(at) FROM readings_due))) GROUP BY 1, 2) r
    FULL JOIN (SELECT interface_id, at AS five, in_octets + bridged_in_octets AS octets FROM readings_fiveminutes
        WHERE at < (SELECT least((SELECT max(until) FROM readings_rolledup), (SELECT min(at) FROM readings_due)))) s
    USING (interface_id, five) WHERE r.octets IS DISTINCT FROM s.octets"""


def differences(asking: psycopg.Connection[Any], base: dict[int, tuple[int, float]]) -> list[str]:
    """What is not as an undisturbed run would have left it, and is not explained by a gap."""
    different = []
    explained = {
        row[0] for row in asking.execute("SELECT device_id FROM readings_gap WHERE reason = 'dropped'").fetchall()
    }
    owner = dict(asking.execute("SELECT id, device_id FROM inventory_interface").fetchall())
    for port, (counter, at) in base.items():
        row = asking.execute(COUNTED, [at, port]).fetchone()
        assert row is not None
        missing = (row[1] - counter) - int(row[2])
        if missing and not (missing > 0 and owner[port] in explained):
            different.append(f"port {port}: {missing:+,} octets of what was counted are missing")
    for what, sql, wanted in (
        ("pairs of readings cover the same time", DOUBLES, 0),
        ("sums over five minutes differ from their readings", SUMS, 0),
        ("alarms were raised (one a port is right)", "SELECT count(*) FROM alarms_alarmchange WHERE severity > 0 AND alarm_id IN"
         " (SELECT id FROM alarms_alarm WHERE type = 'utilisation')", DEVICES * PORTS),
        ("alarms were cleared though nothing changed", "SELECT count(*) FROM alarms_alarmchange WHERE severity = 0 AND alarm_id IN"
         " (SELECT id FROM alarms_alarm WHERE type = 'utilisation')", 0),
        ("messages (one an alarm is right)", "SELECT count(*) FROM alarms_notification n JOIN alarms_alarmchange c ON c.id = n.change_id"
         " JOIN alarms_alarm a ON a.id = c.alarm_id WHERE a.type = 'utilisation'", DEVICES * PORTS),
    ):  # fmt: skip
        row = asking.execute(sql).fetchone()
        if row is None or row[0] != wanted:
            different.append(f"{row[0] if row else 'no'} {what}, not {wanted}")
    return different


@contextmanager
def small_disk() -> Iterator[Path]:
    """A folder on a small disk of its own in memory; on the machine's disk where that is not allowed."""
    folder = Path(tempfile.mkdtemp(prefix="lumtar-faults-", dir="/tmp"))
    mounted = (
        subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={DISK_MIB}m,mode=755", "tmpfs", str(folder)], capture_output=True
        ).returncode
        == 0
    )
    folder.chmod(0o755)
    try:
        yield folder
    finally:
        if mounted:
            subprocess.run(["umount", "-l", str(folder)], capture_output=True)
        shutil.rmtree(folder, ignore_errors=True)


def set_up(target: Installation) -> None:
    """Devices that are polled every other second, and a limit that each of their ports is above."""
    target.start()
    for number in range(DEVICES):
        printed = target.lumtar("manage", "adddevice", address(number), "--port", str(PORT), typed=f"{COMMUNITY}\n")
        if "is added" not in printed:
            raise SystemExit(f"a device could not be added:\n{printed}")
    with target.connect() as asking:
        asking.execute("UPDATE inventory_device SET interval_s = %s, timeout_s = 1, tries = 3", [INTERVAL_S])
        # The plan that calls on duty is made by the same service as on the screens.
        target.lumtar(
            "manage",
            "apply",
            "-",
            typed=yaml.safe_dump({"rules": [{"name": "Utilisation", "mail_to": ["duty@oskelund.example"]}]}),
        )
        asking.execute(
            """UPDATE alarms_rule SET levels = '[{"severity": 4, "limit": 10, "clear": 2}]', times = 2, of = 2"""
            " WHERE measure = 'load'"
        )
        limit = time.monotonic() + 120
        alarms = "SELECT count(*) FROM alarms_alarm WHERE type = 'utilisation'"
        while (row := asking.execute(alarms).fetchone()) and row[0] < DEVICES * PORTS:
            if time.monotonic() > limit:
                raise SystemExit(f"only {row[0]} alarms of {DEVICES * PORTS} were raised before any fault")
            time.sleep(0.5)


def run(number: int, seed: int, calm_s: float = CALM_S) -> tuple[Counter[str], list[str], Watch]:
    """So many faults; what was done, and what differs in the end."""
    dice = random.Random(seed)
    done: Counter[str] = Counter()
    with small_disk() as folder:
        target = Installation(folder)
        watch = Watch(target)
        seconds = 300 + 30 * number
        with process("bench.fleet", str(DEVICES), str(PORTS), str(seconds), "0.2", ready=True):
            try:
                set_up(target)
                with target.connect() as asking:
                    base = {row[0]: (int(row[1]), float(row[2])) for row in asking.execute(BASE).fetchall()}
                faults = Faults(target, dice).every()
                with watch.watching():
                    for _ in range(number):
                        name = dice.choice(sorted(faults))
                        print(f"  {sum(done.values()) + 1}/{number}: {name}", flush=True)
                        faults[name]()
                        done[name] += 1
                        time.sleep(dice.uniform(0.5, 6.0))
                    time.sleep(calm_s)
                with target.connect() as asking:
                    different = differences(asking, base) + watch.lies
            finally:
                target.lumtar("stop")
    return done, different, watch


def faults() -> None:
    """Break it, and report what that came to."""
    number, seed = int(os.environ.get("LUMTAR_FAULTS", "200")), int(os.environ.get("LUMTAR_FAULTS_SEED", "7"))
    began = time.monotonic()
    done, different, watch = run(number, seed)
    for each in different:
        print(f"  DIFFERENCE {each}")
    figures = [Figure(name, count, "times") for name, count in sorted(done.items())]
    figures += [
        Figure("faults", sum(done.values()), "", "200"),
        Figure("differences that no gap explains", len(different), "", "0"),
        Figure("looks at health", watch.looks, ""),
        Figure("of these not well", watch.not_well, ""),
        Figure("of these untrue", len(watch.lies), "", "0"),
        Figure("took", time.monotonic() - began, "s"),
    ]
    report(f"faults: {number} with seed {seed}", figures)
    if different:
        sys.exit(1)
