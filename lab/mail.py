"""A mail sink: takes every mail and keeps it in a folder, a file each."""

import itertools
import time
from pathlib import Path

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session


class Folder:
    """Where the mails go."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._numbers = itertools.count(1)

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:  # noqa: N802
        """Keep one mail."""
        content = envelope.original_content or b""
        name = f"{time.time():.3f}-{next(self._numbers)}.eml"
        (self._folder / name).write_bytes(content)
        return "250 kept"


def sink(folder: Path, port: int) -> Controller:
    """A sink on a loopback port; start() and stop() it."""
    return Controller(Folder(folder), hostname="127.0.0.1", port=port)


def mails(folder: Path) -> list[bytes]:
    """The mails, oldest first."""
    return [path.read_bytes() for path in sorted(folder.glob("*.eml"))]
