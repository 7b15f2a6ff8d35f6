"""The commands of ``./lumtar``."""

import json
import os
import secrets
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path

from launcher import install, places, postgres, processes
from launcher.places import ADDRESS, PYTHON, ROOT, VAR, WEB
from launcher.ports import require_free
from launcher.say import Failure, complain, line, run, step

HELP = """Lumtar: what the network does, and what is wrong with it.

  ./lumtar demo [--fresh]   everything on this machine, with a stand-in network and 35 days of history
  ./lumtar start            the same without stand-ins and without demonstration data
  ./lumtar stop             end what demo or start started
  ./lumtar test [ARGS]      install what tests need, run all of them (ARGS go to pytest)
  ./lumtar check            formats, lint, types, layer contracts, both languages
  ./lumtar bench [NAMES]    measurements, as a table and as JSON in var/bench/
  ./lumtar manage ...       Django's management commands; adddevice, apitoken among them
  ./lumtar lab ...          put faults into the stand-in network and take them out, read its mails

demo and start stay in the foreground until Ctrl-C; --background returns once they are ready."""


FIRST_STEPS = (
    "The first visit makes the administrator. Add a device: ./lumtar manage adddevice ADDRESS --community NAME"
)


def environment(url: str) -> dict[str, str]:
    """The environment of Lumtar's processes."""
    keys = VAR / "secret.key"
    if not keys.exists():
        keys.touch(mode=0o600)
        keys.write_text(secrets.token_urlsafe(48))
    return {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": "lumtar.server.settings",
        "LUMTAR_DATABASE_URL": url,
        "LUMTAR_KEY_FILE": os.environ.get("LUMTAR_KEY_FILE", str(keys)),
        "LUMTAR_VAR": str(VAR),
        "PYTHONUNBUFFERED": "1",
    }


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
            told: dict[str, object] = json.load(answer)
            return told
    except urllib.error.HTTPError as error:
        return json.loads(error.read() or b"{}") or None
    except (OSError, ValueError):
        return None


def wait_until(supervisor: processes.Supervisor, ready: Callable[[dict[str, object]], bool], what: str) -> None:
    """Look after the processes until health satisfies a condition."""
    limit = time.monotonic() + 90
    while time.monotonic() < limit:
        told = health()
        if told is not None and ready(told):
            return
        supervisor.tend(0.2)
    raise Failure(f"waited 90 s for {what} in vain", f"The processes' own words are in {places.LOGS}.")


def serve(demo: bool, fresh: bool, background: bool) -> int:
    """Start everything and stay until told to stop."""
    mode = "demo" if demo else "start"
    if state := processes.running():
        if not fresh:
            line(f"Lumtar runs already ({state['mode']}): {state['address']}   end it with ./lumtar stop")
            return 0
        stop()
    VAR.mkdir(parents=True, exist_ok=True)
    install.ensure_python()
    install.ensure_web()
    if fresh:
        with step("deleting the old data"):
            postgres.drop()
    if background:
        return detach(mode)
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
    web = ["-m", "uvicorn", "lumtar.server.asgi:application", "--host", places.WEB_HOST, "--port", str(places.WEB_PORT)]
    web += ["--timeout-graceful-shutdown", "2", "--log-level", "warning", "--no-access-log"]
    commands = {
        "lab": ["-m", "lab", "serve"],
        "web": web,
        "worker": ["-m", "lumtar.engine.worker"],
        "collector": ["-m", "lumtar.engine.collector"],
    }
    if not demo:
        del commands["lab"]
    supervisor = processes.Supervisor(
        [processes.Process(name, python(*words), env) for name, words in commands.items()]
    )
    processes.note_running(mode, ADDRESS)
    try:
        with step("starting " + ", ".join(commands)):
            supervisor.start()
            wait_until(supervisor, lambda told: True, "the web server")
        if demo:
            with step("waiting for the first readings"):
                wait_until(supervisor, lambda told: bool(told.get("readings_fresh")), "the first readings")
        line("")
        line(f"Lumtar is ready: {ADDRESS}")
        line("Sign in as demo, password oskelund (demonstration data only)." if demo else FIRST_STEPS)
        line("Ctrl-C or ./lumtar stop ends it.")
        while True:
            supervisor.tend()
    except processes.Stopped:
        line("\nstopping …")
    finally:
        supervisor.stop()
        postgres.stop()
        places.STATE.unlink(missing_ok=True)
    return 0


def detach(mode: str) -> int:
    """Run the same command in the background and return when it is ready or has failed."""
    places.LOGS.mkdir(parents=True, exist_ok=True)
    log = places.LOGS / "lumtar.log"
    with log.open("wb") as out:
        child = subprocess.Popen(
            [sys.executable, str(ROOT / "lumtar"), mode],
            stdout=out,
            stderr=out,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )
    seen = 0
    while True:
        text = log.read_text()
        print(text[seen:], end="", flush=True)
        seen = len(text)
        if "Lumtar is ready" in text and text.rstrip().endswith("ends it."):
            return 0
        if child.poll() is not None:
            return child.returncode or 1
        time.sleep(0.2)


def stop() -> int:
    """End what runs."""
    was = processes.stop_running()
    if postgres.URL.exists():
        postgres.stop()
    places.STATE.unlink(missing_ok=True)
    line("Stopped." if was else "Lumtar was not running.")
    return 0


def with_database(words: list[str], development: bool = False, demo: bool = False) -> int:
    """Run a Python command with the database up, leaving the database as it was found."""
    VAR.mkdir(parents=True, exist_ok=True)
    install.ensure_python(development)
    url, started = postgres.start()
    env = demo_environment(url) if demo else environment(url)
    try:
        return subprocess.run(words, env=env, cwd=ROOT).returncode
    except KeyboardInterrupt:
        return 130
    finally:
        if started:
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
    together = [] if words else ["-n", "2", "--dist", "loadfile"]
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


def main(words: list[str]) -> int:
    """Run one command; the exit status says whether it worked."""
    name, rest = (words[0], words[1:]) if words else ("help", [])
    unknown = [word for word in rest if word not in ("--fresh", "--background")]
    try:
        if name in ("demo", "start"):
            if unknown or (name == "start" and "--fresh" in rest):
                raise Failure(f"{name} does not know {' '.join(unknown or rest)}", "See ./lumtar help.")
            return serve(name == "demo", "--fresh" in rest, "--background" in rest)
        simple = {"stop": stop, "check": check}
        passing = {"manage": manage, "test": test, "bench": bench, "lab": lab}
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
