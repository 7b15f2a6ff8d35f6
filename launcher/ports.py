"""Who holds a port."""

import contextlib
import socket
from pathlib import Path

from launcher.say import Failure


def holder(port: int) -> str:
    """The process that listens on a TCP port, as far as this user may know; empty if unknown."""
    inodes = set()
    for table in ("/proc/net/tcp", "/proc/net/tcp6"):
        try:
            rows = Path(table).read_text().splitlines()[1:]
        except OSError:
            continue
        for row in rows:
            fields = row.split()
            if fields[3] == "0A" and int(fields[1].rsplit(":", 1)[1], 16) == port:
                inodes.add(f"socket:[{fields[9]}]")
    for process in Path("/proc").glob("[0-9]*"):
        links = set()
        try:
            for link in (process / "fd").iterdir():
                with contextlib.suppress(OSError):
                    links.add(str(link.readlink()))
            words = (process / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace").strip()
        except OSError:
            continue
        if links & inodes:
            return f"process {process.name} ({words[:80]})"
    return ""


def require_free(host: str, port: int, setting: str) -> None:
    """Raise Failure if something listens on the port already, saying who where that can be known."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            who = holder(port)
            taken = f"port {port} on {host} is taken" + (f" by {who}" if who else f" ({error.strerror})")
            raise Failure(
                taken, f"End that process, or choose another port: {setting}={port + 1000} ./lumtar …"
            ) from error
