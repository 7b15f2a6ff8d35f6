"""Backups: the whole database in one file, and back.

The key that opens the stored secrets is never in it: whoever finds a backup has no passwords, and whoever restores one needs
the key file from where it is kept. A file is a tar with a page about itself and PostgreSQL's own dump.
"""

import hashlib
import io
import json
import os
import subprocess
import tarfile
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from launcher import install, postgres, processes
from launcher.places import PYTHON, ROOT, VAR
from launcher.postgres import program
from launcher.say import Failure, line, run, step

ABOUT, DUMP = "lumtar.json", "database.dump"
FORMAT = 1


def connection(url: str, database: str = "") -> tuple[dict[str, str], str]:
    """The environment in which PostgreSQL's programs reach a database, its password unseen by others, and its name."""
    parts = urlsplit(url)
    env = {
        **os.environ,
        "PGPASSWORD": parts.password or "",
        "PGHOST": parts.hostname or "",
        "PGUSER": parts.username or "",
    }
    if parts.port:
        env["PGPORT"] = str(parts.port)
    return env, database or parts.path.lstrip("/") or "lumtar"


def ask(env: Mapping[str, str], database: str, sql: str) -> str:
    """The answer to a question, as text."""
    return run([program("psql"), "-X", "-d", database, "-v", "ON_ERROR_STOP=1", "-Atqc", sql], env=env).strip()


def fingerprint(keys: Path) -> str:
    """Tells one key from another without giving it away."""
    text = os.environ.get("LUMTAR_KEY", "") or (keys.read_text() if keys.exists() else "")
    first = text.split(",")[0].strip()
    return hashlib.sha256(b"lumtar backup " + first.encode()).hexdigest()[:16] if first else ""


def key_file() -> Path:
    """Where the key is kept."""
    return Path(os.environ.get("LUMTAR_KEY_FILE") or VAR / "secret.key")


def one_file(words: list[str], command: str) -> Path:
    """The one word that backup and restore take."""
    if len(words) != 1 or words[0].startswith("-"):
        raise Failure(
            f"{command} needs the name of one file", f"For instance: ./lumtar {command} lumtar-2026-11-27.backup"
        )
    return Path(words[0]).resolve()


def backup(words: list[str]) -> int:
    """Write everything that is stored into a file. Lumtar may run meanwhile."""
    target = one_file(words, "backup")
    if target.exists():
        raise Failure(f"{target} is there already", "Choose another name; a backup is never written over.")
    install.ensure_python()
    use = processes.Use("database-in-use")
    url, _ = postgres.start()
    env, database = connection(url)
    try:
        about = {
            "format": FORMAT,
            "made_at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
            "server": ask(env, database, "SHOW server_version"),
            "key": fingerprint(key_file()),
            "migrations": ask(env, database, "SELECT app || '.' || name FROM django_migrations ORDER BY 1").split(),
        }
        partial = target.with_name(target.name + ".partial")
        with tempfile.TemporaryDirectory(dir=target.parent, prefix=".lumtar-") as folder:
            dump = Path(folder) / DUMP
            with step(f"writing {target.name}"):
                run([program("pg_dump"), "-Fc", "--no-owner", "-f", dump, "-d", database], env=env)
                with os.fdopen(os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as out:
                    pack(out, about, dump)
        partial.rename(target)
    except BaseException:
        target.with_name(target.name + ".partial").unlink(missing_ok=True)
        raise
    finally:
        if use.is_last():
            postgres.stop()
    line(f"{target}: {target.stat().st_size / (1 << 20):,.1f} MiB.")
    line(
        f"The key is not in it. Keep a copy of {key_file()} somewhere else: without it no stored credential can be read."
    )
    return 0


def pack(out: Any, about: Mapping[str, Any], dump: Path) -> None:
    """Write the tar: the page about it first, so that it is found without reading the rest."""
    with tarfile.open(fileobj=out, mode="w") as tar:
        text = json.dumps(about).encode()
        info = tarfile.TarInfo(ABOUT)
        info.size = len(text)
        tar.addfile(info, io.BytesIO(text))
        tar.add(dump, DUMP)


def read_about(source: Path) -> dict[str, Any]:
    """What a backup says of itself."""
    then = "It has to be a file that ./lumtar backup has written, whole."
    try:
        with tarfile.open(source) as tar:
            page = tar.extractfile(ABOUT)
            about = json.loads(page.read()) if page else {}
            size = tar.getmember(DUMP).size
    except FileNotFoundError:
        raise Failure(f"{source} is not there", "Name the file that ./lumtar backup has written.") from None
    except (tarfile.TarError, KeyError, ValueError, OSError, EOFError) as error:
        raise Failure(f"{source} is no backup of Lumtar ({error})", then) from None
    if not isinstance(about, dict) or not isinstance(about.get("migrations"), list) or not size:
        raise Failure(f"{source} is no backup of Lumtar", then)
    if about.get("format", 0) > FORMAT:
        raise Failure(f"{source} was written by a newer Lumtar", "Update Lumtar first, then restore it.")
    return about


def known_migrations(env: Mapping[str, str]) -> set[str]:
    """The steps that this version can bring a database to."""
    words = "import django, json; django.setup(); from django.db.migrations.loader import MigrationLoader; "
    words += (
        "print(json.dumps(['.'.join(k) for k in MigrationLoader(None, ignore_no_migrations=True).disk_migrations]))"
    )
    listed = run([PYTHON, "-c", words], env=env)
    return set(json.loads(listed.strip().splitlines()[-1]))


def restore(words: list[str]) -> int:
    """Put a backup in place of what is there. Nothing is lost if it cannot be read: it is brought back beside it first."""
    from launcher.commands import environment

    source = one_file(words, "restore")
    about = read_about(source)
    if processes.running():
        raise Failure("Lumtar is running", "End it first: ./lumtar stop")
    install.ensure_python()
    use = processes.Use("database-in-use")
    url, _ = postgres.start()
    env, database = connection(url)
    own = environment(url)
    try:
        newer = sorted(set(about["migrations"]) - known_migrations(own))
        if newer:
            raise Failure(
                f"{source.name} was written by a newer Lumtar: this one does not know {', '.join(newer[:3])}",
                "Update Lumtar to at least that version, then restore it.",
            )
        with tempfile.TemporaryDirectory(dir=VAR, prefix=".restore-") as folder, step(f"reading {source.name}"):
            with tarfile.open(source) as tar:
                tar.extract(DUMP, folder, filter="data")
            replace(env, database, Path(folder) / DUMP)
        with step("bringing it to this version"):
            run([PYTHON, "-m", "django", "migrate", "--no-input", "-v", "0"], env=own)
    finally:
        if use.is_last():
            postgres.stop()
    line(f"Restored as it was at {about['made_at']}.")
    if about.get("key") and about["key"] != fingerprint(key_file()):
        line(f"The stored credentials were encrypted with another key: put that one into {key_file()},")
        line("or behind the new one in LUMTAR_KEY, separated by a comma; else enter them again.")
    return 0


def replace(env: Mapping[str, str], database: str, dump: Path) -> None:
    """Read a dump into a database beside the one in use, and exchange the two once it is whole."""
    beside, before = f"{database}_restoring", f"{database}_before"
    ask(env, "postgres", f'DROP DATABASE IF EXISTS "{beside}"')
    ask(env, "postgres", f'CREATE DATABASE "{beside}"')
    command = [program("pg_restore"), "--no-owner", "--exit-on-error", "-d", beside, dump]
    done = subprocess.run([str(word) for word in command], env=dict(env), capture_output=True, text=True, cwd=ROOT)
    if done.returncode:
        ask(env, "postgres", f'DROP DATABASE IF EXISTS "{beside}"')
        raise Failure(
            f"the dump cannot be read: {done.stderr.strip().splitlines()[-1] if done.stderr.strip() else 'no reason was given'}",
            "What was there before is untouched. Is the file whole, and is PostgreSQL as new as the one that wrote it?",
        )
    ask(env, "postgres", f'DROP DATABASE IF EXISTS "{before}"')
    ask(env, "postgres", f'ALTER DATABASE "{database}" RENAME TO "{before}"')
    ask(env, "postgres", f'ALTER DATABASE "{beside}" RENAME TO "{database}"')
    ask(env, "postgres", f'DROP DATABASE "{before}"')
