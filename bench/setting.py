"""What measurements share: a database of their own, processes with their CPU time, a table of figures."""

import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
from rich.console import Console
from rich.table import Table

VAR = Path(os.environ.get("LUMTAR_VAR", "var"))
URL = os.environ.get("LUMTAR_DATABASE_URL", "")
TICK = os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True, slots=True)
class Figure:
    """One measured figure. ``goal`` says what is wanted of it, if anything is."""

    what: str
    value: float
    unit: str
    goal: str = ""


def cpu(pid: int) -> float:
    """User and system seconds of a process."""
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / TICK


def postgres_cpu() -> float:
    """Seconds of all PostgreSQL processes that run, with those they have ended."""
    total = 0
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            name, rest = stat.read_text().rsplit(")", 1)
        except OSError:
            continue
        if "(postgres" in name:
            fields = rest.split()
            total += sum(map(int, fields[11:15]))
    return total / TICK


@contextmanager
def process(*words: str, env: dict[str, str] | None = None, ready: bool = False) -> Iterator[subprocess.Popen[str]]:
    """A Python module that runs meanwhile; with ``ready`` after it has said so."""
    child = subprocess.Popen(
        [sys.executable, "-m", *words],
        env={**os.environ, **(env or {})},
        text=True,
        stdout=subprocess.PIPE if ready else None,
    )
    try:
        if ready:
            assert child.stdout is not None
            child.stdout.readline()
        yield child
    finally:
        child.terminate()
        try:
            child.wait(15)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()


@contextmanager
def database(name: str = "lumtar_bench") -> Iterator[str]:
    """A fresh migrated database beside Lumtar's own; its address. It is dropped afterwards."""
    url = urlsplit(URL)._replace(path=f"/{name}").geturl()
    with psycopg.connect(URL, autocommit=True) as admin:
        admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        admin.execute(f"CREATE DATABASE {name}")
    try:
        env = {**os.environ, "LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-m", "django", "migrate", "-v", "0"], env=env, check=True)
        yield url
    finally:
        with psycopg.connect(URL, autocommit=True) as admin:
            admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")


def report(title: str, figures: list[Figure]) -> None:
    """Print a table, and keep the same as JSON in var/bench/."""
    table = Table(title=title, title_justify="left")
    for name, justify in (("figure", "left"), ("value", "right"), ("unit", "left"), ("goal", "left")):
        table.add_column(name, justify=justify)  # type: ignore[arg-type]
    for figure in figures:
        table.add_row(
            figure.what,
            f"{figure.value:,.0f}" if abs(figure.value) >= 100 else f"{figure.value:,.2f}",
            figure.unit,
            figure.goal,
        )
    Console(width=110).print(table)
    folder = VAR / "bench"
    folder.mkdir(parents=True, exist_ok=True)
    facts = {
        "at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
        "cores": os.cpu_count(),
        "figures": [{"what": f.what, "value": f.value, "unit": f.unit, "goal": f.goal} for f in figures],
    }
    (folder / f"{title.split(':')[0].replace(' ', '-')}.json").write_text(json.dumps(facts, indent=1))
