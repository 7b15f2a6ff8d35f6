"""The stand-in network's own commands: ``python -m lab serve | load | mails | FAULT …``."""

import asyncio
import json
import os
import signal
import socket
import sys
from email import message_from_bytes
from email.header import decode_header, make_header
from pathlib import Path

from lab.builder import build
from lab.controller import kept_certificate
from lab.faults import HELP
from lab.mail import mails, sink
from lab.network import Network, read_epoch
from lab.receivers import Receivers

VAR = Path(os.environ.get("LUMTAR_VAR", Path(__file__).resolve().parent.parent / "var"))
CONTROL = int(os.environ.get("LUMTAR_LAB_PORT", "8472"))
MAIL = int(os.environ.get("LUMTAR_MAIL_PORT", "8473"))
RECEIVERS = int(os.environ.get("LUMTAR_RECEIVERS_PORT", "8474"))
FLOWS = int(os.environ.get("LUMTAR_FLOW_PORTS", "8478").split(",")[0])
TRAPS = int(os.environ.get("LUMTAR_TRAP_PORT", "8477"))


async def serve() -> None:
    """Run the agents, the control port, the mail sink and the receivers of messages until a signal says stop."""
    receivers = Receivers(RECEIVERS, VAR / "received")
    network = Network(build(), read_epoch(VAR), receivers, TRAPS, FLOWS, kept_certificate(VAR))
    await network.listen(CONTROL)
    post = sink(VAR / "mail", MAIL)
    post.start()
    receivers.start()
    done = asyncio.Event()
    for name in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(name, done.set)
    await done.wait()
    network.close()
    post.stop()
    receivers.stop()


def ask(words: list[str]) -> int:
    """Send a command to the running network and print what it says."""
    try:
        with socket.create_connection(("127.0.0.1", CONTROL), 3) as line:
            line.sendall(json.dumps({"words": words}).encode() + b"\n")
            answer = json.loads(line.makefile().readline())
    except OSError as error:
        print(
            f"lab: the stand-in network does not run on port {CONTROL} ({error.strerror}); start it with ./lumtar demo",
            file=sys.stderr,
        )
        return 1
    print(answer.get("said") or answer["error"])
    return 1 if "error" in answer else 0


def show_mails() -> int:
    """Print every mail that the sink has."""
    for raw in mails(VAR / "mail"):
        mail = message_from_bytes(raw)
        body = mail.get_payload(decode=True)
        print(f"To: {mail['To']}\nSubject: {make_header(decode_header(mail['Subject'] or ''))}\n")
        print(body.decode(errors="replace") if isinstance(body, bytes) else "", "\n" + "-" * 60)
    return 0


def load() -> int:
    """Load the demonstration into the database."""
    import django

    django.setup()
    from lab.load import load as fill

    fill(build(), VAR, lambda text: print(text, flush=True), RECEIVERS)
    return 0


def main(words: list[str]) -> int:
    """Run one command."""
    if words == ["serve"]:
        asyncio.run(serve())
        return 0
    if words == ["load"]:
        return load()
    if words == ["mails"]:
        return show_mails()
    if not words or words[0] in ("help", "-h", "--help"):
        print("lab serve | load | mails, or a fault.\n" + HELP)
        return 0
    return ask(words)


sys.exit(main(sys.argv[1:]))
