"""A program of the operator's own, from one folder of this machine."""

import os
import re
import subprocess
from pathlib import Path

import orjson
from django.conf import settings

from lumtar.core.refusal import Refusal
from lumtar.domain.calling.channels.registry import Blank, Channel, Message, Target, Undelivered, register

TIMEOUT_S, MOST_OUTPUT = 20.0, 2000
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,99}")


def folder() -> Path:
    """The only folder that programs are run from; who may write there is who looks after this machine."""
    return Path(settings.VAR) / "scripts"


def _path(target: Target) -> Path:
    name = target.get("name", "").strip()
    if not _NAME.fullmatch(name):
        raise Refusal("Write the file name of a program, without a folder.", "target")
    path = folder() / name
    if path.is_symlink() or not path.is_file() or not os.access(path, os.X_OK):
        raise Refusal(f"There is no executable file {name} in {folder()}; put it there first.", "target")
    return path


def _check(target: Target) -> str:
    return _path(target).name


def _send(target: Target, message: Message) -> str:
    """Run it without a shell, with the message as JSON on its standard input, and keep what it prints."""
    try:
        path = _path(target)
    except Refusal as error:
        raise Undelivered(error.sentence, again=False) from error
    given = {
        "key": message.key,
        "subject": message.subject,
        "text": message.text,
        "link": message.link,
        "alarms": [
            {
                "id": each.alarm,
                "resource": each.label,
                "site": each.site,
                "type": each.type,
                "severity": each.severity.word,
                "text": each.text,
                "at": each.at.isoformat(),
            }
            for each in message.alarms
        ],
    }
    try:
        done = subprocess.run(
            [str(path)],
            input=orjson.dumps(given),
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=TIMEOUT_S,
            cwd=folder(),
            # Nothing of this service's surroundings: they hold the key of the installation.
            env={"PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8", "LUMTAR_MESSAGE": message.key},
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        output = (error.stdout or b"").decode(errors="replace")[:MOST_OUTPUT]
        raise Undelivered(
            f"{path.name} did not end within {TIMEOUT_S:.0f} s and was stopped. {output}".strip()
        ) from error
    except OSError as error:
        raise Undelivered(f"{path.name} could not be started: {error.strerror}") from error
    output = done.stdout.decode(errors="replace").strip()[:MOST_OUTPUT]
    if done.returncode:
        raise Undelivered(f"{path.name} ended with {done.returncode}. {output}".strip())
    return output or "ended with 0"


register(
    Channel(
        "script",
        "Program on this machine",
        (Blank("name", "File name", "an executable file in the folder var/scripts"),),
        _check,
        _send,
        for_administrators=True,
    )
)
