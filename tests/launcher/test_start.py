"""``./lumtar start`` from nothing, with a cluster and ports of its own, as somebody would use it."""

import io
import json
import os
import shutil
import signal
import socket
import subprocess
import tarfile
import tempfile
import time
import urllib.error
import urllib.request
from pathlib import Path

import pytest

from bench.ports import free_port
from launcher.places import ROOT

PASSED_ON = {"LUMTAR_DATABASE_URL", "LUMTAR_KEY_FILE", "LUMTAR_KEY", "DJANGO_SETTINGS_MODULE"}


class Installation:
    """A folder for everything that changes, and free ports."""

    def __init__(self, folder):
        self.folder = folder
        self.web, self.database = (free_port() for _ in range(2))
        own = {
            "LUMTAR_VAR": str(folder),
            "LUMTAR_WEB_PORT": str(self.web),
            "LUMTAR_DATABASE_PORT": str(self.database),
            "LUMTAR_TRAP_PORT": str(free_port()),
            "LUMTAR_FLOW_PORTS": str(free_port()),
        }
        self.environment = {name: value for name, value in os.environ.items() if name not in PASSED_ON} | own

    def lumtar(self, *words, told=None):
        """Run one command to its end."""
        return subprocess.run(
            [str(ROOT / "lumtar"), *words],
            env=self.environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            timeout=120,
            input=told,
        )

    def health(self):
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{self.web}/api/v1/health", timeout=5) as answer:
                return json.load(answer)
        except urllib.error.HTTPError as error:
            return json.load(error)

    def processes(self):
        """Numbers of the processes that run from this folder's state, by their module."""
        found = {}
        for path in Path("/proc").glob("[0-9]*"):
            try:
                environment = (path / "environ").read_bytes().decode(errors="replace").split("\0")
                words = (path / "cmdline").read_bytes().decode(errors="replace").split("\0")
            except OSError:
                continue
            if f"LUMTAR_VAR={self.folder}" in environment and "-m" in words:
                found[words[words.index("-m") + 1]] = int(path.name)
        return found

    def instances(self):
        """Numbers of what a supervisor of this folder started, by the name it gave."""
        found = {}
        for path in Path("/proc").glob("[0-9]*"):
            try:
                environment = (path / "environ").read_bytes().decode(errors="replace").split("\0")
            except OSError:
                continue
            if f"LUMTAR_SUPERVISED={self.folder}" in environment:
                found[next(each for each in environment if each.startswith("LUMTAR_INSTANCE=")).split("=")[1]] = int(
                    path.name
                )
        return found


@pytest.fixture
def installation():
    # PostgreSQL's own user must be able to reach the cluster when this runs as root.
    folder = Path(tempfile.mkdtemp(prefix="lumtar-", dir="/tmp"))
    folder.chmod(0o755)
    made = Installation(folder)
    yield made
    made.lumtar("stop")
    shutil.rmtree(folder)


def until(look, patience=90):
    limit = time.monotonic() + patience
    while not (found := look()):
        assert time.monotonic() < limit, "waited in vain"
        time.sleep(0.1)
    return found


def test_nothing_outlives_its_supervisor_and_nothing_runs_twice(installation):
    """The database is brought back by itself; of a supervisor that was killed nothing is left to collect beside the next."""
    first = subprocess.Popen(
        [str(ROOT / "lumtar"), "start", "--background"], env=installation.environment, stdout=subprocess.PIPE, text=True
    )
    second = installation.lumtar("start", "--background", "--collectors", "2")
    told = second.stdout + first.communicate(timeout=120)[0]
    assert "Lumtar is ready" in told and "Lumtar runs already" in told, told
    modules = until(lambda: len(found := installation.processes()) >= 3 and found)
    until(lambda: all(process["alive"] for process in installation.health()["processes"]))
    logs = [*(installation.folder / "log").glob("*.log")]
    assert logs and all(log.stat().st_mode & 0o077 == 0 for log in logs)

    cluster = installation.folder / "postgres" / "postmaster.pid"
    number = int(cluster.read_text().splitlines()[0])
    os.kill(number, signal.SIGKILL)
    until(lambda: cluster.exists() and int(cluster.read_text().split()[0]) != number)
    until(lambda: installation.health().get("processes"))

    state = json.loads((installation.folder / "run.json").read_text())
    os.kill(state["pid"], signal.SIGKILL)
    until(lambda: not installation.processes())
    again = installation.lumtar("start", "--background", "--collectors", "2")
    assert "Lumtar is ready" in again.stdout, again.stdout
    names = until(lambda: len(found := installation.instances()) == 7 and found)
    assert sorted(names) == ["collector", "collector-2", "flows", "prober", "receiver", "web", "worker"]
    assert modules["lumtar.engine.collector"] not in names.values()


def test_a_backup_comes_back_and_nothing_is_lost_by_a_bad_one(installation):
    assert installation.lumtar("manage", "migrate", "-v", "0").returncode == 0
    installation.lumtar("manage", "adddevice", "127.0.0.1", "--name", "before", "--port", "9", told="word\n")
    file = installation.folder / "first.backup"
    made = installation.lumtar("backup", str(file))
    assert made.returncode == 0 and "The key is not in it" in made.stdout, made.stdout
    assert file.stat().st_mode & 0o777 == 0o600
    assert (installation.folder / "secret.key").read_bytes() not in file.read_bytes()
    assert "is there already" in installation.lumtar("backup", str(file)).stdout

    installation.lumtar("manage", "adddevice", "127.0.0.2", "--name", "after", "--port", "9", told="word\n")
    cut = installation.folder / "cut.backup"
    cut.write_bytes(file.read_bytes()[: file.stat().st_size // 2])
    for wrong in (cut, installation.folder / "secret.key", installation.folder / "none"):
        refused = installation.lumtar("restore", str(wrong))
        assert refused.returncode == 1 and "Traceback" not in refused.stdout, refused.stdout
    newer = installation.folder / "newer.backup"
    with tarfile.open(file) as old, tarfile.open(newer, "w") as tar:
        about = json.loads(old.extractfile("lumtar.json").read())
        about["migrations"].append("inventory.9999_of_the_future")
        page = json.dumps(about).encode()
        info = tarfile.TarInfo("lumtar.json")
        info.size = len(page)
        tar.addfile(info, io.BytesIO(page))
        tar.addfile(old.getmember("database.dump"), old.extractfile("database.dump"))
    assert "does not know inventory.9999_of_the_future" in installation.lumtar("restore", str(newer)).stdout
    assert names_of(installation) == ["after", "before"]

    back = installation.lumtar("restore", str(file))
    assert back.returncode == 0, back.stdout
    assert names_of(installation) == ["before"]
    assert "another key" not in back.stdout
    (installation.folder / "secret.key").write_text("another one")
    assert "encrypted with another key" in installation.lumtar("restore", str(file)).stdout
    (installation.folder / "secret.key").write_text("")
    assert "is empty" in installation.lumtar("start", "--background").stdout


def names_of(installation):
    words = "from lumtar.domain.inventory.models import Device; print('names', *sorted(Device.objects.values_list('name', flat=True)))"
    told = installation.lumtar("manage", "shell", "--no-imports", "-c", words).stdout
    return next(line.split()[1:] for line in told.splitlines() if line.startswith("names"))


def test_from_nothing_to_ready_and_back(installation):
    first = installation.lumtar("start", "--background")
    assert first.returncode == 0, first.stdout
    assert "creating the database cluster" in first.stdout
    assert f"Lumtar is ready: http://127.0.0.1:{installation.web}" in first.stdout
    assert "The first visit makes the administrator" in first.stdout
    for secret in ("secret.key", "database.url"):
        assert (installation.folder / secret).stat().st_mode & 0o777 == 0o600

    again = installation.lumtar("start", "--background")
    assert again.returncode == 0 and "Lumtar runs already (start)" in again.stdout

    until(lambda: all(process["alive"] for process in installation.health()["processes"]))
    added = installation.lumtar("manage", "adddevice", "127.0.0.1", "--port", "9", told="not-this-one\n")
    assert added.returncode == 0, added.stdout

    before = installation.processes()
    assert {"uvicorn", "lumtar.engine.worker", "lumtar.engine.collector", "lumtar.engine.receiver"} <= set(before)
    os.kill(before["lumtar.engine.collector"], signal.SIGKILL)
    old = before["lumtar.engine.collector"]
    until(lambda: installation.processes().get("lumtar.engine.collector", old) != old)

    ended = installation.lumtar("stop")
    assert ended.returncode == 0 and "Stopped." in ended.stdout
    assert not installation.processes()
    assert "Lumtar was not running." in installation.lumtar("stop").stdout

    with socket.socket() as holder:
        holder.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        holder.bind(("127.0.0.1", installation.web))
        holder.listen()
        taken = installation.lumtar("start", "--background")
        assert taken.returncode == 1
        assert f"port {installation.web} on 127.0.0.1 is taken by process {os.getpid()}" in taken.stdout
        assert "Traceback" not in taken.stdout

    foreground = subprocess.Popen(
        [str(ROOT / "lumtar"), "start"], env=installation.environment, stdout=subprocess.PIPE, text=True
    )
    told = ""
    while "Ctrl-C" not in told:
        line = foreground.stdout.readline()
        assert line, told
        told += line
    assert "creating the database cluster" not in told, "what was there is used again"
    foreground.send_signal(signal.SIGINT)
    rest, _ = foreground.communicate(timeout=30)
    assert "stopping" in rest and foreground.returncode == 0
    assert not installation.processes()
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", installation.database), timeout=1)
