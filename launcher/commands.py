"""The commands of ``./lumtar``."""

import json
import os
import secrets
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from launcher import backup, install, places, postgres, processes
from launcher.places import ADDRESS, LOGS, PYTHON, ROOT, VAR, WEB
from launcher.ports import require_free
from launcher.say import Failure, complain, line, run, step

if TYPE_CHECKING:
    from lumtar.domain.operation.registry import ServiceKind

HELP = """Lumtar: what the network does, and what is wrong with it.

  ./lumtar demo [--fresh]   everything on this machine, with a stand-in network and 35 days of history
  ./lumtar start            the same without stand-ins and without demonstration data
                            --collectors N runs so many collectors, which share the devices
  ./lumtar stop             end what demo or start started
  ./lumtar test [ARGS]      install what tests need, run all of them (ARGS go to pytest)
  ./lumtar check            formats, lint, types, layer contracts, both languages
  ./lumtar bench [NAMES]    measurements, as a table and as JSON in var/bench/
  ./lumtar backup FILE      the whole database into a file; the key that opens its secrets is not in it
  ./lumtar restore FILE     put a backup in place of what is there
  ./lumtar manage ...       Django's management commands; adddevice, apitoken among them
  ./lumtar lab ...          put faults into the stand-in network and take them out, read its mails

demo and start stay in the foreground until Ctrl-C; --background returns once they are ready."""


FIRST_STEPS = "The first visit makes the administrator. Add a device: ./lumtar manage adddevice ADDRESS"


def environment(url: str) -> dict[str, str]:
    """The environment of Lumtar's processes."""
    keys = Path(os.environ.get("LUMTAR_KEY_FILE") or VAR / "secret.key")
    if not os.environ.get("LUMTAR_KEY"):
        ensure_key(keys)
    return {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": "lumtar.server.settings",
        "LUMTAR_DATABASE_URL": url,
        "LUMTAR_KEY_FILE": str(keys),
        "LUMTAR_VAR": str(VAR),
        # What links in messages begin with; behind a proxy people open another address.
        "LUMTAR_ADDRESS": os.environ.get("LUMTAR_ADDRESS", ADDRESS),
        "PYTHONUNBUFFERED": "1",
    }


def ensure_key(keys: Path) -> None:
    """The file with the key that secrets are encrypted with; made on the first start, and never used empty."""
    if not keys.exists():
        with os.fdopen(os.open(keys, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as made:
            made.write(secrets.token_urlsafe(48))
    if not keys.read_text().strip():
        raise Failure(
            f"the key file {keys} is empty; what was encrypted with its key cannot be read without it",
            "Bring the key back from where it is kept, or delete the empty file if nothing was stored yet.",
        )


def python(*words: str) -> list[str]:
    """A command in Lumtar's own Python."""
    return [str(PYTHON), *words]


def demo_environment(url: str) -> dict[str, str]:
    """The environment with the stand-in network: mail goes to its sink."""
    return environment(url) | {
        "LUMTAR_DEMO": "1",
        "LUMTAR_MAIL_URL": os.environ.get("LUMTAR_MAIL_URL", f"smtp://127.0.0.1:{places.MAIL_PORT}"),
    }


def health() -> dict[str, object] | None:
    """What the web server says of itself and of the others, or None while it does not answer."""
    try:
        with urllib.request.urlopen(f"{ADDRESS}/api/v1/health", timeout=2) as answer:
            state: dict[str, object] = json.load(answer)
            return state
    except urllib.error.HTTPError as error:
        return json.loads(error.read() or b"{}") or None
    except (OSError, ValueError):
        return None


def wait_until(supervisor: processes.Supervisor, ready: Callable[[dict[str, object]], bool], what: str) -> None:
    """Look after the processes until health satisfies a condition."""
    limit = time.monotonic() + 90
    while time.monotonic() < limit:
        state = health()
        if state is not None and ready(state):
            return
        supervisor.tend(0.2)
    raise Failure(f"waited 90 s for {what} in vain", f"The processes' own words are in {places.LOGS}.")


def serve(demo: bool, fresh: bool, background: bool, collectors: int) -> int:
    """Start everything and stay until told to stop."""
    mode = "demo" if demo else "start"
    if state := processes.running():
        if not fresh:
            return already(state)
        stop()
    VAR.mkdir(parents=True, exist_ok=True)
    install.ensure_python()
    install.ensure_web()
    install.ensure_graphviz()
    if background:
        return detach([mode, *(["--fresh"] if fresh else []), "--collectors", str(collectors)])
    with processes.only_one("supervisor") as free:
        if not free:
            return already(processes.running() or {"mode": mode, "address": ADDRESS})
        processes.listen_for_the_end()
        processes.note_running(mode, ADDRESS)
        try:
            run_all(demo, fresh, collectors)
        except processes.Stopped:
            line("\nstopping …")
        finally:
            places.STATE.unlink(missing_ok=True)
    return 0


def already(state: dict[str, object]) -> int:
    """Somebody else has started it."""
    line(f"Lumtar runs already ({state['mode']}): {state['address'] or ADDRESS}   end it with ./lumtar stop")
    return 0


def run_all(demo: bool, fresh: bool, collectors: int) -> None:
    """Start the database and every process, and look after them until Stopped is raised."""
    supervisor = processes.Supervisor([])
    use = processes.Use("database-in-use")
    try:
        if left := processes.end_left_behind():
            line(f"· ended {left} processes that an earlier run had left behind")
        if fresh:
            with step("deleting the old data"):
                postgres.drop()
        ports = [(places.WEB_HOST, places.WEB_PORT, "LUMTAR_WEB_PORT")]
        if demo:
            ports += [
                ("127.0.0.1", places.LAB_PORT, "LUMTAR_LAB_PORT"),
                ("127.0.0.1", places.MAIL_PORT, "LUMTAR_MAIL_PORT"),
            ]
        for wanted in ports:
            require_free(*wanted)
        url, _ = postgres.start()
        env = demo_environment(url) if demo else environment(url)
        with step("preparing the database"):
            run(python("-m", "django", "migrate", "--no-input", "-v", "0"), env=env)
        if demo:
            run(python("-m", "lab", "load"), env=env, loud=True)
        LOGS.mkdir(parents=True, exist_ok=True)
        LOGS.chmod(0o700)
        supervisor.processes = wanted_processes(demo, collectors, env)
        if not postgres.external():
            supervisor.servers = [processes.Server("database", postgres.is_up, postgres.bring_back)]
        with step("starting " + ", ".join(process.name for process in supervisor.processes)):
            supervisor.start()
            wait_until(supervisor, lambda state: True, "the web server")
        if demo:
            with step("waiting for the first readings"):
                wait_until(supervisor, lambda state: bool(state.get("readings_fresh")), "the first readings")
        line("")
        line(f"Lumtar is ready: {ADDRESS}")
        line("Sign in as demo, password oskelund (demonstration data only)." if demo else FIRST_STEPS)
        line("Ctrl-C or ./lumtar stop ends it.")
        while True:
            supervisor.tend()
    finally:
        supervisor.stop()
        if use.is_last():
            postgres.stop()


def wanted_processes(demo: bool, collectors: int, env: Mapping[str, str]) -> list[processes.Process]:
    """The web server and every service that the registry names, collectors as many as wanted."""
    web = ["-m", "uvicorn", "lumtar.server.asgi:application", "--host", places.WEB_HOST, "--port", str(places.WEB_PORT)]
    web += ["--timeout-graceful-shutdown", "2", "--log-level", "warning", "--no-access-log", "--no-server-header"]
    # Who speaks for a visitor is what the operator says, not whoever connects from this machine.
    proxies = os.environ.get("LUMTAR_PROXIES", "")
    web += ["--proxy-headers", "--forwarded-allow-ips", proxies] if proxies else ["--no-proxy-headers"]
    wanted = [processes.Process("lab", python("-m", "lab", "serve"), env)] if demo else []
    wanted.append(processes.Process("web", python(*web), env))
    for kind in services():
        for number in range(1, (collectors if kind.many else 1) + 1):
            name = kind.name if number == 1 else f"{kind.name}-{number}"
            wanted.append(processes.Process(name, python("-m", kind.module), env, kind.stop_s))
    return wanted


def services() -> Sequence["ServiceKind"]:
    """The services that there are, from the product's own list."""
    sys.path.insert(0, str(ROOT / "src"))
    try:
        from lumtar.domain.operation.registry import SERVICES
    finally:
        sys.path.remove(str(ROOT / "src"))
    return SERVICES


def detach(words: list[str]) -> int:
    """Run the same command in the background and return when it is ready or has failed."""
    LOGS.mkdir(parents=True, exist_ok=True)
    # One file a start: two starts at once must not write over each other's words.
    log = LOGS / f"start-{os.getpid()}.log"
    with processes.private(log) as out:
        child = subprocess.Popen(
            [sys.executable, str(ROOT / "lumtar"), *words],
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
    for old in sorted(LOGS.glob("start-*.log"), key=lambda path: path.stat().st_mtime)[:-5]:
        old.unlink(missing_ok=True)
    seen = 0
    while True:
        ended = child.poll()
        text = log.read_text()
        print(text[seen:], end="", flush=True)
        seen = len(text)
        if ended is not None:
            return ended
        if "Lumtar is ready" in text and "ends it." in text:
            return 0
        time.sleep(0.2)


def stop() -> int:
    """End what runs."""
    was = processes.stop_running()
    with processes.only_one("supervisor") as free:
        if free:
            was = bool(processes.end_left_behind()) or was
            if postgres.URL.exists() and processes.Use("database-in-use").is_last():
                postgres.stop()
            places.STATE.unlink(missing_ok=True)
    line("Stopped." if was else "Lumtar was not running.")
    return 0


def with_database(words: list[str], development: bool = False, demo: bool = False) -> int:
    """Run a Python command with the database up; whoever uses it last stops it."""
    VAR.mkdir(parents=True, exist_ok=True)
    install.ensure_python(development)
    use = processes.Use("database-in-use")
    url, _ = postgres.start()
    env = demo_environment(url) if demo else environment(url)
    try:
        return subprocess.run(words, env=env, cwd=ROOT).returncode
    except KeyboardInterrupt:
        return 130
    finally:
        if use.is_last():
            postgres.stop()


def manage(words: list[str]) -> int:
    """Django's management commands, on the database of the running demo or of start."""
    state = processes.running()
    return with_database(python("-m", "django", *words), demo=bool(state and state["mode"] == "demo"))


def test(words: list[str]) -> int:
    """All tests: the front end's own, then core, wire, domain, engine and browser."""
    install.ensure_python(development=True)
    install.ensure_web()
    install.ensure_test_tools()
    if not words:
        with step("testing the front end"):
            run(["npm", "test", "--silent"], cwd=WEB, loud=True)
    # Most tests wait for something: two at a time take half as long. Those of one file share what they stand on.
    # Half of the time tests wait for each other's processes, for ticks of clocks and for the database.
    workers = str(min(8, 2 * (os.cpu_count() or 1)))
    together = [] if words else ["-n", workers, "--dist", "loadfile", "--no-loadscope-reorder"]
    return with_database(python("-m", "pytest", *together, *words), development=True)


def check() -> int:
    """Formats, lint, types and layer contracts; every one is run even if an earlier one fails."""
    install.ensure_python(development=True)
    install.ensure_web()
    tools = places.VENV / "bin"
    env = {**os.environ, "DJANGO_SETTINGS_MODULE": "lumtar.server.settings"}
    failed = []
    steps: list[tuple[str, list[str | Path], Path]] = [
        ("format (Python)", [tools / "ruff", "format", "--check", "."], ROOT),
        ("lint (Python)", [tools / "ruff", "check", "."], ROOT),
        ("types (Python)", [tools / "mypy"], ROOT),
        ("layers", [tools / "lint-imports", "--no-cache"], ROOT),
        ("format, lint, types (TypeScript)", ["npm", "run", "-s", "check"], WEB),
        ("API client is current", [PYTHON, "-m", "lumtar.server.client", "--check"], ROOT),
    ]
    for name, command, cwd in steps:
        try:
            with step(name):
                run(command, cwd=cwd, env=env)
        except Failure as failure:
            failed.append(name)
            complain(failure)
    line("All checks passed." if not failed else f"Failed: {', '.join(failed)}")
    return 1 if failed else 0


def bench(words: list[str]) -> int:
    """Measurements on a database of their own."""
    install.ensure_web()
    install.ensure_test_tools()
    return with_database(python("-m", "bench", *words), development=True)


def lab(words: list[str]) -> int:
    """The stand-in network's own commands."""
    install.ensure_python()
    return subprocess.run(python("-m", "lab", *words), cwd=ROOT).returncode


def options(name: str, words: list[str]) -> tuple[bool, bool, int]:
    """What demo and start are told: fresh, background, collectors."""
    rest, collectors = list(words), os.environ.get("LUMTAR_COLLECTORS", "1")
    if "--collectors" in rest:
        place = rest.index("--collectors")
        collectors = rest[place + 1] if place + 1 < len(rest) else ""
        del rest[place : place + 2]
    known = ("--fresh", "--background") if name == "demo" else ("--background",)
    if unknown := [word for word in rest if word not in known]:
        raise Failure(f"{name} does not know {' '.join(unknown)}", "See ./lumtar help.")
    if not collectors.isdigit() or not 1 <= int(collectors) <= 16:
        raise Failure(
            f"{collectors!r} is no number of collectors (1 to 16)", "For instance: ./lumtar start --collectors 2"
        )
    return "--fresh" in rest, "--background" in rest, int(collectors)


def main(words: list[str]) -> int:
    """Run one command; the exit status says whether it worked."""
    name, rest = (words[0], words[1:]) if words else ("help", [])
    try:
        if name in ("demo", "start"):
            return serve(name == "demo", *options(name, rest))
        simple = {"stop": stop, "check": check}
        passing = {
            "manage": manage, "test": test, "bench": bench, "lab": lab, "backup": backup.backup, "restore": backup.restore,
        }  # fmt: skip
        if name in simple:
            return simple[name]()
        if name in passing:
            return passing[name](rest)
        if name not in ("help", "-h", "--help"):
            raise Failure(f"there is no command {name!r}", "See ./lumtar help.")
        line(HELP)
        return 0
    except Failure as failure:
        complain(failure)
        return 1
    except (processes.Stopped, KeyboardInterrupt):
        return 130
