"""Keeping Lumtar's processes running: one that ends by itself is started again, each time a little later."""

import contextlib
import ctypes
import fcntl
import json
import os
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Protocol

from launcher.places import LOGS, STATE, VAR
from launcher.say import Failure, line

LONGEST_PAUSE = 30.0
SETTLED = 60.0
"""Seconds after which a process counts as running well."""
PATIENCE = 8.0
LARGEST_LOG, KEPT_LOGS = 20 << 20, 3
"""A log is put aside when it has so many octets; so many of those are kept."""
ROTATE_EVERY = 30.0
MARK = "LUMTAR_SUPERVISED"
"""Names the folder of the supervisor in the environment of what it started, so that a later one finds what a dead one left."""
PR_SET_PDEATHSIG = 1


def private(path: Path) -> IO[bytes]:
    """A log to append to, which nobody else may read."""
    return os.fdopen(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "ab")


def die_with_parent() -> None:
    """In a child before it runs: should its supervisor die, however that happens, it is told to stop."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)


class Tended(Protocol):
    """Something that is looked after."""

    def start(self) -> None:
        """Start it."""

    def tend(self) -> None:
        """Start it again if it ended."""


@dataclass
class Process:
    """One supervised process and what became of it. ``patience`` is what it is given to stop, in seconds."""

    name: str
    command: list[str]
    env: Mapping[str, str]
    patience: float = PATIENCE
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
        with private(self.log) as log:
            self.child = subprocess.Popen(
                self.command,
                env={**self.env, MARK: str(VAR), "LUMTAR_INSTANCE": self.name},
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                process_group=0,
                preexec_fn=die_with_parent,
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


@dataclass
class Server:
    """Something that was started elsewhere and is started again whenever it is gone: the database."""

    name: str
    is_there: Callable[[], bool]
    bring_back: Callable[[], None]
    every: float = 2.0
    failures: int = 0
    look_at: float = 0.0

    def start(self) -> None:
        """It runs already."""

    def tend(self) -> None:
        """Look now and then whether it is there; bring it back, with growing pauses."""
        now = time.monotonic()
        if now < self.look_at:
            return
        self.look_at = now + self.every
        if self.is_there():
            self.failures = 0
            return
        line(f"  the {self.name} has ended, it is started again")
        try:
            self.bring_back()
        except (Failure, OSError, subprocess.SubprocessError) as error:
            # Whatever keeps it from starting now, a full disk say, may be over at the next try.
            self.failures += 1
            pause = min(LONGEST_PAUSE, 2.0 ** min(self.failures, 5))
            self.look_at = time.monotonic() + pause
            line(f"  the {self.name} could not be started, next try in {pause:.0f} s: {error}")


class Stopped(Exception):
    """Somebody asked for the end."""


def listen_for_the_end() -> None:
    """From now on being told to stop raises Stopped, wherever the launcher is."""

    def asked(*_: object) -> None:
        raise Stopped

    signal.signal(signal.SIGTERM, asked)
    signal.signal(signal.SIGINT, asked)


class Supervisor:
    """Runs processes until it is told to stop, then ends them in the opposite order."""

    def __init__(self, processes: Sequence[Process], servers: Sequence[Server] = ()) -> None:
        self.processes = list(processes)
        self.servers = list(servers)
        self._rotate_at = 0.0

    def start(self) -> None:
        """Start them all."""
        for process in self.processes:
            process.start()

    def tend(self, seconds: float = 0.5) -> None:
        """Look after them for a moment."""
        tended: list[Tended] = [*self.servers, *self.processes]
        for each in tended:
            each.tend()
        if time.monotonic() >= self._rotate_at:
            self._rotate_at = time.monotonic() + ROTATE_EVERY
            rotate(LOGS)
        time.sleep(seconds)

    def stop(self) -> None:
        """Ask each to end, then make it."""
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        running = [(process, process.child) for process in reversed(self.processes) if process.child]
        for _, child in running:
            child.terminate()
        began = time.monotonic()
        for process, child in running:
            try:
                child.wait(max(0.1, began + process.patience - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.kill()
                child.wait()


def rotate(folder: Path, largest: int = LARGEST_LOG, kept: int = KEPT_LOGS) -> None:
    """Put large logs aside. Who writes to one goes on in it: its contents are copied, then it is cut to nothing."""
    for log in folder.glob("*.log"):
        # A full disk, or somebody who tidies up meanwhile: the log stays as it is until the next time.
        with contextlib.suppress(OSError):
            if log.stat().st_size < largest:
                continue
            for number in range(kept - 1, 0, -1):
                older = log.with_name(f"{log.name}.{number}")
                if older.exists():
                    older.replace(log.with_name(f"{log.name}.{number + 1}"))
            aside = log.with_name(f"{log.name}.1")
            with log.open("rb") as source, private(aside) as target:
                shutil.copyfileobj(source, target)
            os.truncate(log, 0)


@contextlib.contextmanager
def only_one(name: str) -> Iterator[bool]:
    """Hold a lock under var/ for as long as the context lasts; false if another process holds it.

    The lock ends with its process, however that ends, and is not handed on to what it starts.
    """
    VAR.mkdir(parents=True, exist_ok=True)
    holder = os.open(VAR / f"{name}.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        yield locked(holder, fcntl.LOCK_EX)
    finally:
        os.close(holder)


def locked(holder: int, how: int) -> bool:
    """Take a lock; who only looks whether it is held has it for an instant, hence several tries."""
    for _ in range(10):
        with contextlib.suppress(BlockingIOError):
            fcntl.flock(holder, how | fcntl.LOCK_NB)
            return True
        time.sleep(0.02)
    return False


class Use:
    """Something that several processes use, and that the last one of them puts away: see :meth:`is_last`."""

    def __init__(self, name: str) -> None:
        VAR.mkdir(parents=True, exist_ok=True)
        self._holder = os.open(VAR / f"{name}.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        fcntl.flock(self._holder, fcntl.LOCK_SH)

    def is_last(self) -> bool:
        """Whether nobody else uses it any more. From then on this one does not either."""
        try:
            return locked(self._holder, fcntl.LOCK_EX)
        finally:
            os.close(self._holder)


def is_held(name: str) -> bool:
    """Whether a process holds the lock."""
    try:
        holder = os.open(VAR / f"{name}.lock", os.O_RDWR | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        # Shared, so that any number may look at once.
        return not locked(holder, fcntl.LOCK_SH)
    finally:
        os.close(holder)


def left_behind() -> list[int]:
    """Processes that a supervisor of this folder started and that have none any more."""
    wanted = f"{MARK}={VAR}".encode()
    left = []
    for each in Path("/proc").glob("[0-9]*"):
        try:
            if wanted in (each / "environ").read_bytes().split(b"\0") and int(each.name) != os.getpid():
                left.append(int(each.name))
        except OSError:
            continue
    return left


def end_left_behind(patience: float = PATIENCE) -> int:
    """End what a dead supervisor left; call it while holding the lock. Returns how many there were."""
    left = left_behind()
    for number in left:
        with contextlib.suppress(ProcessLookupError):
            os.kill(number, signal.SIGTERM)
    limit = time.monotonic() + patience
    while left_behind() and time.monotonic() < limit:
        time.sleep(0.1)
    for number in left_behind():
        with contextlib.suppress(ProcessLookupError):
            os.kill(number, signal.SIGKILL)
    return len(left)


def running() -> dict[str, object] | None:
    """What the state file says of a supervisor that is alive, else None."""
    if not is_held("supervisor"):
        return None
    try:
        state: dict[str, object] = json.loads(STATE.read_text())
    except (OSError, ValueError):
        # It has the lock and is about to write its state.
        state = {}
    return {"mode": "starting", "address": "", "pid": 0} | state


def note_running(mode: str, address: str) -> None:
    """Write the state file."""
    STATE.write_text(json.dumps({"pid": os.getpid(), "mode": mode, "address": address}))


def stop_running(patience: float = 45.0) -> bool:
    """Stop the supervisor that runs; whether there was one."""
    limit = time.monotonic() + patience
    state = running()
    if state is None:
        return False
    asked = False
    while state is not None and time.monotonic() < limit:
        if not asked and (number := int(str(state["pid"]))):
            with contextlib.suppress(ProcessLookupError):
                os.kill(number, signal.SIGTERM)
            asked = True
        time.sleep(0.1)
        state = running()
    return True
