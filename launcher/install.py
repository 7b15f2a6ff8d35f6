"""Installing what is missing. Every step is safe to repeat and does nothing when nothing is missing."""

import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Iterable, Sequence
from pathlib import Path

from launcher.places import PYTHON, ROOT, VENV, WEB
from launcher.say import Failure, line, run, step

NO_SERVICES = Path("/usr/sbin/policy-rc.d")
POSTGRES = "/usr/lib/postgresql"


def digest(paths: Iterable[Path]) -> str:
    """One digest over the names and contents of files."""
    total = hashlib.sha256(sys.version.encode())
    for path in sorted(paths):
        total.update(str(path.relative_to(ROOT)).encode())
        total.update(path.read_bytes())
    return total.hexdigest()


def is_stamped(stamp: Path, value: str) -> bool:
    """Whether a stamp file holds this value, that is, whether the step was done for it."""
    return stamp.is_file() and stamp.read_text() == value


def debian(packages: Sequence[str], purpose: str) -> None:
    """Install Debian packages without letting them start or enable services of their own."""
    with step(f"installing {', '.join(packages)} ({purpose})"):
        if shutil.which("apt-get") is None:
            raise Failure(
                f"this machine has no apt-get; {', '.join(packages)} are missing",
                "Install them by hand, then run the same command again.",
            )
        sudo = [] if os.geteuid() == 0 else ["sudo"]
        if sudo and shutil.which("sudo") is None:
            raise Failure(
                "installing needs root, and sudo is not there",
                f"As root: apt-get install {' '.join(packages)}",
            )
        kept = NO_SERVICES.exists()
        if not kept:
            text = "#!/bin/sh\nexit 101\n"
            subprocess.run([*sudo, "tee", str(NO_SERVICES)], input=text, text=True, stdout=subprocess.DEVNULL)
            run([*sudo, "chmod", "755", NO_SERVICES])
        quiet = [*sudo, "env", "DEBIAN_FRONTEND=noninteractive", "apt-get", "-q"]
        then = "Check that this machine reaches Debian's packages, then run the same command again."
        try:
            run([*quiet, "update"], then)
            run([*quiet, "install", "-y", "--no-install-recommends", *packages], then)
        finally:
            if not kept:
                run([*sudo, "rm", "-f", NO_SERVICES])
        if Path("/run/systemd/system").exists():
            for service in ("snmpd", "lldpd"):
                if service in packages:
                    run([*sudo, "systemctl", "disable", "--now", service])


def ensure_postgres() -> None:
    """PostgreSQL's server from Debian's packages."""
    if not any(Path(POSTGRES).glob("*/bin/initdb")):
        debian(["postgresql"], "the database")


def ensure_graphviz() -> None:
    """Graphviz, which lays out the map. Where it cannot be installed everything else works, and the map stands in rows."""
    if shutil.which("sfdp") is None:
        try:
            debian(["graphviz"], "laying out the map")
        except Failure as failure:
            line(f"  {failure.why}: the map will stand in rows until graphviz is installed")


def ensure_python(development: bool = False) -> None:
    """The virtual environment with the locked packages, and Lumtar itself on its path."""
    if not PYTHON.exists():
        with step("creating the Python environment .venv"):
            try:
                run([sys.executable, "-m", "venv", VENV])
            except Failure:
                shutil.rmtree(VENV, ignore_errors=True)
                debian(["python3-venv"], "Python environments")
                run([sys.executable, "-m", "venv", VENV])
    places = next((VENV / "lib").glob("python3*/site-packages"))
    (places / "lumtar.pth").write_text(f"{ROOT / 'src'}\n{ROOT}\n")
    names = ["run", "dev"] if development else ["run"]
    for name in names:
        lock = ROOT / "requirements" / f"{name}.txt"
        stamp = VENV / f"stamp-{name}"
        wanted = digest([lock])
        if is_stamped(stamp, wanted):
            continue
        with step(f"installing the Python packages of requirements/{name}.txt"):
            run(
                [PYTHON, "-m", "pip", "install", "-q", "--disable-pip-version-check", "--require-hashes", "-r", lock],
                "Check that this machine reaches PyPI, then run the same command again.",
            )
        stamp.write_text(wanted)


def npm() -> list[str]:
    """The npm to use: lock files with optional platform packages need npm 11."""
    if shutil.which("npm") is None:
        raise Failure("npm is not there", "Install Node.js 20 or newer with npm, then run the same command again.")
    major = int(run(["npm", "--version"]).strip().splitlines()[-1].split(".")[0])
    return ["npm"] if major >= 11 else ["npx", "--yes", "npm@11.19.1"]


def ensure_web() -> None:
    """Npm packages and the built front end."""
    lock = WEB / "package-lock.json"
    stamp = WEB / "node_modules" / ".stamp"
    wanted = digest([lock])
    if not is_stamped(stamp, wanted):
        with step("installing the npm packages of web/"):
            run([*npm(), "ci"], "Check that this machine reaches the npm registry, then run it again.", cwd=WEB)
        stamp.write_text(wanted)
    sources = [path for path in (WEB / "src").rglob("*") if path.is_file()]
    sources += [WEB / name for name in ("index.html", "vite.config.ts", "tsconfig.json", "package.json")]
    stamp = WEB / "dist" / ".stamp"
    wanted = digest(sources)
    if not is_stamped(stamp, wanted):
        with step("building the front end"):
            run(["npm", "run", "build"], cwd=WEB)
        stamp.write_text(wanted)


def ensure_test_tools() -> None:
    """Chromium, agents of SNMP and LLDP that are not ours, and the SNMP command-line tools."""
    wanted = {
        "chromium": Path("/usr/bin/chromium"),
        "snmpd": Path("/usr/sbin/snmpd"),
        "snmp": Path("/usr/bin/snmpget"),
        "graphviz": Path("/usr/bin/sfdp"),
        "lldpd": Path("/usr/sbin/lldpd"),
        "libpcap0.8": Path(f"/usr/lib/{os.uname().machine}-linux-gnu/libpcap.so.0.8"),
    }
    missing = [package for package, path in wanted.items() if not path.exists()]
    if missing:
        debian(missing, "the tests")
