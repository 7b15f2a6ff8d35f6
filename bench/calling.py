"""From a raised alarm to the mail server: ``./lumtar bench calling``.

A worker, a mail server and 1,000 ports; one alarm alone, then 1,000 within a minute, then 10,000 at once, each raised by the
call that the collector makes, in its own transaction, with a call plan of two steps and two contacts.
"""

import os
import socket
import subprocess
import sys
import tempfile
import time
from email import message_from_bytes
from pathlib import Path

from bench.setting import Figure, database, process, report

RAISE = "import bench.calling; bench.calling.storm({count}, {over_s}, {first})"
DEVICES, PORTS = 20, 500


def fill() -> None:
    """Devices, ports, contacts and the plan."""
    import django

    django.setup()
    from bench import seed
    from lumtar.domain.alarms.models import Rule
    from lumtar.domain.calling import contacts, plans
    from lumtar.domain.calling.contacts import AddressSpec, ContactSpec
    from lumtar.domain.calling.plans import PlanSpec, StepSpec

    seed.main(DEVICES, PORTS, 60)
    made = [
        contacts.save(
            ContactSpec(name, addresses=[AddressSpec("mail", {"address": f"{name}@oskelund.example"})]), "bench"
        ).pk
        for name in ("desk", "duty")
    ]
    steps = [StepSpec(contacts=made[:1]), StepSpec(contacts=made[1:]), StepSpec(after_s=900, contacts=made[:1])]
    Rule.objects.filter(name="Utilisation").update(plan=plans.save(PlanSpec("Bench", steps), "bench"))


def storm(count: int, over_s: float, first: int) -> None:
    """Raise so many alarms, spread over a time in ten batches a second; print when the first and the last were committed."""
    import django

    django.setup()
    from datetime import UTC, datetime

    from lumtar.core.alarms.facts import Said
    from lumtar.core.alarms.severity import Severity
    from lumtar.domain.alarms.models import Rule
    from lumtar.domain.alarms.services import Transition, apply
    from lumtar.domain.inventory.models import Interface

    rule = Rule.objects.get(name="Utilisation")
    ports = list(Interface.objects.order_by("pk").values_list("pk", "device_id")[first : first + count])
    batches = max(1, int(over_s * 10))
    took, began = [], time.monotonic()
    for number in range(batches):
        some = ports[number * count // batches : (number + 1) * count // batches]
        begin = time.monotonic()
        apply(
            Transition("interface", port, "utilisation", str(rule.pk), Severity.MAJOR, Said("full"), datetime.now(UTC),
                       device, rule.pk, plan=rule.plan_id)
            for port, device in some
        )  # fmt: skip
        took.append(time.monotonic() - begin)
        time.sleep(max(0.0, began + (number + 1) / 10 - time.monotonic()) if over_s else 0.0)
    print(time.time(), max(took), flush=True)


def calling() -> None:
    """Measure it."""
    from lab.mail import mails, sink

    with tempfile.TemporaryDirectory() as folder, database() as url, socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
        free.close()
        box = Path(folder)
        post = sink(box, port)
        post.start()
        env = {"LUMTAR_DATABASE_URL": url, "LUMTAR_MAIL_URL": f"smtp://127.0.0.1:{port}"}
        _python("import bench.calling; bench.calling.fill()", env)
        figures = []
        try:
            with process("lumtar.engine.worker", env=env):
                time.sleep(8)
                at, took = _raise(env, 1, 0.0, 0)
                figures += [
                    Figure("one alarm: committed within", 1000 * took, "ms", "1000"),
                    Figure("one alarm: in the mailbox after", 1000 * (_arrived(box, 0, 2) - at), "ms", "5000"),
                ]
                time.sleep(62)
                before = len(mails(box))
                at, took = _raise(env, 1000, 55.0, 1)
                figures += [
                    Figure("1,000 in a minute: slowest batch", 1000 * took, "ms", "1000"),
                    Figure(
                        "1,000 in a minute: first mail after the first batch",
                        1000 * (_arrived(box, before, 2) - at + 55),
                        "ms",
                        "5000",
                    ),
                ]
                time.sleep(65)
                before = len(mails(box))
                at, took = _raise(env, 8000, 0.0, 1001)
                figures += [
                    Figure("8,000 at once: committed within", 1000 * took, "ms"),
                    Figure("8,000 at once: in the mailbox after", 1000 * (_arrived(box, before, 2) - at), "ms", "5000"),
                ]
                time.sleep(2)
                changes = sum(int(_counted(raw)) for raw in mails(box))
                figures.append(Figure("changes told in all (18,002 are right)", changes, ""))
                figures.append(Figure("mails", len(mails(box)), ""))
        finally:
            post.stop()
    report("calling: from a raised alarm to the mail server", figures)


def _python(words: str, env: dict[str, str]) -> str:
    done = subprocess.run(
        [sys.executable, "-c", words], env={**os.environ, **env}, capture_output=True, text=True, check=True
    )
    return done.stdout


def _raise(env: dict[str, str], count: int, over_s: float, first: int) -> tuple[float, float]:
    last = _python(RAISE.format(count=count, over_s=over_s, first=first), env).split()
    return float(last[-2]), float(last[-1])


def _arrived(box: Path, before: int, more: int) -> float:
    """When so many more mails than before had come."""
    limit = time.monotonic() + 90
    while time.monotonic() < limit:
        files = sorted(box.glob("*.eml"))
        if len(files) >= before + more:
            return float(files[before + more - 1].name.split("-")[0])
        time.sleep(0.01)
    raise SystemExit(f"only {len(list(box.glob('*.eml'))) - before} of {more} mails came")


def _counted(raw: bytes) -> str:
    """How many changes a mail tells of, by its subject."""
    subject = " ".join(str(message_from_bytes(raw)["Subject"]).split())
    return (
        subject.split(" changes of alarms")[0].split("] ")[-1].replace(",", "")
        if "changes of alarms" in subject
        else "1"
    )
