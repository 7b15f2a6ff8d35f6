"""From an alarm to a mail in a mailbox, through the real worker and a real mail server."""

import os
import random
import subprocess
import sys
import time
from datetime import UTC, datetime, timedelta
from email import message_from_bytes

import pytest
from django.conf import settings

from bench.ports import free_port
from lab.mail import mails, sink
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm, Message, Notification, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.models import Process
from tests.alarms import plan_for, transition
from tests.conftest import cut_everybody_else

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def mailbox(tmp_path, let_go):

    post = sink(tmp_path / "mail", free_port())
    post.start()
    yield post, tmp_path / "mail"
    post.stop()


@pytest.fixture
def environment(mailbox):
    wanted = settings.DATABASES["default"]
    url = f"postgresql://{wanted['USER']}:{wanted['PASSWORD']}@{wanted['HOST']}:{wanted['PORT']}/{wanted['NAME']}"
    return {
        **os.environ,
        "LUMTAR_DATABASE_URL": url,
        "LUMTAR_MAIL_URL": f"smtp://127.0.0.1:{mailbox[0].port}",
        "LUMTAR_GATHER_S": "0",
    }


@pytest.fixture
def worker(environment):
    process = subprocess.Popen([sys.executable, "-m", "lumtar.engine.worker"], env=environment)
    yield process
    process.terminate()
    process.wait(15)


def until(look, patience=60):
    limit = time.monotonic() + patience
    while not look():
        assert time.monotonic() < limit, "waited in vain"
        time.sleep(0.1)


def test_an_alarm_raised_and_cleared_is_two_mails(worker, mailbox):
    device = add_device("127.0.0.3", name="pel-wan-1", site="Pellwick", kind="v2c", secret={"community": "word"})
    rule = Rule.objects.get(name="Reachability")
    until(lambda: Process.objects.filter(name="worker").exists())
    plan = plan_for("duty@oskelund.example")
    for severity, text in (
        (Severity.CRITICAL, "Does not answer: no answer on UDP 161 in 3 tries"),
        (Severity.CLEARED, "Answers again after 2 minutes"),
    ):
        apply([transition(device, severity, text, rule=rule, plan=plan)])
        apply([transition(device, severity, text, rule=rule, plan=plan)])
        sent = Notification.objects.filter(message__state="sent", change__severity=severity)
        until(lambda sent=sent: sent.count() == 1)
    time.sleep(1)
    found = [message_from_bytes(raw) for raw in mails(mailbox[1])]
    assert sorted(" ".join(mail["Subject"].split()) for mail in found) == [
        "[cleared] pel-wan-1: Answers again after 2 minutes",
        "[critical] pel-wan-1: Does not answer: no answer on UDP 161 in 3 tries",
    ]
    assert len({mail["Message-ID"] for mail in found}) == 2
    assert all(mail["To"] == "duty@oskelund.example" for mail in found)


def test_it_goes_on_when_the_database_is_back(worker):
    """Every connection is cut; its heartbeat and its work begin again by themselves."""
    mine = Process.objects.filter(name="worker")
    until(mine.exists)
    cut_everybody_else()
    cut = datetime.now(UTC)
    until(lambda: mine.filter(beat_at__gt=cut).exists())
    device = add_device("127.0.0.4", name="sal-wan-1", kind="v2c", secret={"community": "word"})
    rule = Rule.objects.get(name="Reachability")
    plan = plan_for("duty@oskelund.example")
    apply([transition(device, Severity.CRITICAL, "silent", rule=rule, plan=plan)])
    until(lambda: Notification.objects.filter(message__state="sent").count() == 1)


def test_killed_at_any_moment_every_message_goes_out_and_is_known_by_its_key(mailbox, environment):
    """A storm of alarms while the worker is killed (-9) again and again."""
    devices = [
        add_device(f"127.0.1.{number}", name=f"sto-{number}", kind="v2c", secret={"community": "word"})
        for number in range(1, 13)
    ]
    rule = Rule.objects.get(name="Reachability")
    plan = plan_for("duty@oskelund.example", "night@oskelund.example")
    dice, expected = random.Random(7), {device.pk: 0 for device in devices}
    for kill in range(4):
        process = subprocess.Popen([sys.executable, "-m", "lumtar.engine.worker"], env=environment)
        try:
            since = datetime.now(UTC)
            until(lambda since=since: Process.objects.filter(name="worker", beat_at__gt=since).exists())
            for _ in range(15):
                some = dice.sample(devices, 4)
                severity = Severity(dice.choice([0, 4, 5]))
                apply([transition(each, severity, f"in round {kill}", rule=rule, plan=plan) for each in some])
                expected |= dict.fromkeys((each.pk for each in some), int(severity))
                time.sleep(dice.uniform(0, 0.15))
        finally:
            process.kill()
            process.wait(15)
    # Whoever was sending has died; two minutes pass.
    Message.objects.filter(state="sending").update(next_at=datetime.now(UTC))
    process = subprocess.Popen([sys.executable, "-m", "lumtar.engine.worker"], env=environment)
    try:
        waiting = Notification.objects.filter(due_at__lte=datetime.now(UTC) + timedelta(hours=1)).exclude(
            message__state="sent"
        )
        until(lambda: not waiting.exists())
    finally:
        process.terminate()
        process.wait(15)
    active = {alarm.device_id: int(alarm.severity) * (not alarm.is_cleared) for alarm in Alarm.objects.all()}
    assert active == {pk: severity for pk, severity in expected.items() if pk in active}
    keys = {message_from_bytes(raw)["Message-ID"] for raw in mails(mailbox[1])}
    sent = {f"<message-{pk}@localhost>" for pk in Message.objects.values_list("pk", flat=True)}
    assert keys == sent, "each message at least once, and nothing that is not known by its key"
    told = Notification.objects.values_list("change", "address", "step", "round")
    assert len(told) == len(set(told)) and not Message.objects.exclude(state="sent").exists()
