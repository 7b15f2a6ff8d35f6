"""Keeping Lumtar's processes running: one that ends by itself is started again, each time a little later."""

import json
import os
import signal
import subprocess
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from launcher.places import LOGS, STATE
from launcher.say import line

LONGEST_PAUSE = 30.0
SETTLED = 60.0
"""Seconds after which a process counts as running well."""
PATIENCE = 8.0


@dataclass
class Process:
    """One supervised process and what became of it."""

    name: str
    command: list[str]
    env: Mapping[str, str]
    child: subprocess.Popen[bytes] | None = None
    failures: int = 0
    again_at: float = 0.0
    started_at: float = 0.0
    log: Path = field(init=False)

    def __post_init__(self) -> None:
        self.log = LOGS / f"{self.name}.log"

    def start(self) -> None:
        """Start it in a process group of its own, so that Ctrl-C reaches the supervisor alone."""
        self.started_at = time.monotonic()
        with self.log.open("ab") as log:
            self.child = subprocess.Popen(
                self.command, env=dict(self.env), stdout=log, stderr=log, stdin=subprocess.DEVNULL, process_group=0
            )

    def tend(self) -> None:
        """Start it again if it ended."""
        if self.child is None:
            if time.monotonic() >= self.again_at:
                self.start()
            return
        code = self.child.poll()
        if code is None:
            return
        self.child = None
        settled = time.monotonic() - self.started_at > SETTLED
        self.failures = 1 if settled else self.failures + 1
        pause = min(LONGEST_PAUSE, 2.0 ** min(self.failures, 5) - 1)
        self.again_at = time.monotonic() + pause
        line(f"  {self.name} ended with {code}, started again in {pause:.0f} s; see {self.log}")


class Stopped(Exception):
    """Somebody asked for the end."""


class Supervisor:
    """Runs processes until it is told to stop, then ends them in the opposite order."""

    def __init__(self, processes: list[Process]) -> None:
        self.processes = processes
        signal.signal(signal.SIGTERM, self._asked)
        signal.signal(signal.SIGINT, self._asked)

    def _asked(self, *_: object) -> None:
        raise Stopped

    def start(self) -> None:
        """Start them all."""
        LOGS.mkdir(parents=True, exist_ok=True)
        for process in self.processes:
            process.start()

    def tend(self, seconds: float = 0.5) -> None:
        """Look after them for a moment."""
        for process in self.processes:
            process.tend()
        time.sleep(seconds)

    def stop(self) -> None:
        """Ask each to end, then make it."""
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        running = [process.child for process in reversed(self.processes) if process.child]
        for child in running:
            child.terminate()
        patience = time.monotonic() + PATIENCE
        for child in running:
            try:
                child.wait(max(0.1, patience - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()


def running() -> dict[str, object] | None:
    """What the state file says of a supervisor that is alive, else None."""
    try:
        state: dict[str, object] = json.loads(STATE.read_text())
        pid = int(str(state["pid"]))
        words = Path(f"/proc/{pid}/cmdline").read_bytes()
    except (OSError, ValueError, KeyError):
        return None
    return state if b"lumtar" in words else None


def note_running(mode: str, address: str) -> None:
    """Write the state file."""
    STATE.write_text(json.dumps({"pid": os.getpid(), "mode": mode, "address": address}))


def stop_running(patience: float = 30.0) -> bool:
    """Stop the supervisor that runs; whether there was one."""
    state = running()
    if state is None:
        return False
    os.kill(int(str(state["pid"])), signal.SIGTERM)
    limit = time.monotonic() + patience
    while running() and time.monotonic() < limit:
        time.sleep(0.1)
    return True
