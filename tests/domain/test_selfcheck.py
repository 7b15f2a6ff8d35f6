"""What Lumtar finds when it looks at itself."""

import socket
from datetime import UTC, datetime, timedelta
from io import StringIO

import pytest
from django.core.management import call_command
from django.utils import timezone

from lumtar.domain.inventory.credentials import create
from lumtar.domain.inventory.models import Credential
from lumtar.domain.operation.services import beat
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import Due, RolledUp
from lumtar.domain.selfwatch import selfcheck

pytestmark = pytest.mark.django_db
DETAIL = {"devices": 61, "interfaces": 1178, "lag_s": 0.1, "cpu_s": 30.0}


@pytest.fixture
def well(settings):
    """Everything as it should be."""
    now = datetime.now(UTC)
    partitions.ensure_around(now)
    beat("collector", now - timedelta(minutes=10), now, DETAIL)
    beat("worker", now - timedelta(minutes=10), now, {})
    beat("receiver", now - timedelta(minutes=10), now, {"listens_at": "127.0.0.1 port 9", "taken": 7, "refused": 1})
    beat("flows", now - timedelta(minutes=10), now, {"listens_at": "127.0.0.1 port 8", "records": 70, "dropped": 0})
    beat("prober", now - timedelta(minutes=10), now, {"paths": 63, "answered": 5, "dropped": 0})
    create("Core", "v2c", {"community": "word"})
    with socket.create_server(("127.0.0.1", 0)) as mail:
        settings.EMAIL_HOST, settings.EMAIL_PORT = mail.getsockname()
        yield now


def of(subject):
    return next(each for each in selfcheck.findings() if each.subject == subject)


def test_all_is_well(well):
    found = {each.subject: each for each in selfcheck.findings()}
    assert {each.state for each in found.values()} == {"well"}
    assert set(found) == {
        "database",
        "partitions",
        "sums",
        "disk",
        "clock",
        "collector",
        "worker",
        "receiver",
        "flows",
        "prober",
        "jobs",
        "mail",
        "credentials",
    }
    assert found["collector"].words == "61 devices, 1,178 interfaces; 5 % of a core, on time"
    assert found["receiver"].words == "listens at 127.0.0.1 port 9; 7 traps taken, 1 not taken"
    assert found["flows"].words == "listens at 127.0.0.1 port 8; 70 flow records received"
    assert found["prober"].words == "measures 63 paths, answered 5 probes of others"
    out = StringIO()
    call_command("selfcheck", stdout=out)
    assert "✓ clock: this machine's and the database's agree" in out.getvalue()


def test_a_collector_that_ended_lags_or_dropped_readings(well):
    beat("collector", well - timedelta(minutes=10), well - timedelta(minutes=1), DETAIL)
    assert "is not running since" in of("collector").words and "gap" in of("collector").means
    beat("collector", well - timedelta(minutes=10), well, DETAIL | {"lag_s": 95})
    assert (of("collector").state, "behind its schedule" in of("collector").words) == ("wrong", True)
    beat("collector", well - timedelta(minutes=10), well, DETAIL | {"cpu_s": 590})
    assert of("collector").state == "watch"
    beat("collector", well - timedelta(minutes=10), well, DETAIL | {"dropped_rows": 12000})
    assert "12,000 readings were dropped" in of("collector").words


def test_a_prober_that_dropped_intervals(well):
    beat("prober", well - timedelta(minutes=10), well, {"paths": 63, "dropped": 700})
    assert (of("prober").state, "700 intervals" in of("prober").words) == ("watch", True)


def test_the_worst_stands_first_and_the_command_ends_with_one(well, settings):
    settings.EMAIL_PORT = 9
    found = selfcheck.findings()
    assert (found[0].subject, found[0].state) == ("mail", "wrong")
    assert "does not answer" in found[0].words and "LUMTAR_MAIL_URL" in found[0].then
    with pytest.raises(SystemExit) as met:
        call_command("selfcheck", stdout=StringIO())
    assert met.value.code == 1


def test_sums_that_wait_for_long_are_said(well):
    RolledUp.objects.create(until=timezone.now())
    assert of("sums").state == "well"
    Due.objects.create(at=timezone.now() - timedelta(hours=3, minutes=5))
    assert of("sums").state == "watch" and "the oldest for 3 hours" in of("sums").words


def test_a_full_disk_a_wrong_clock_a_missing_partition_a_lost_key(well, monkeypatch):
    usage = selfcheck.shutil.disk_usage("/")._replace(total=100 << 30, free=1 << 30)
    monkeypatch.setattr(selfcheck.shutil, "disk_usage", lambda path: usage)
    assert of("disk").state == "wrong" and "Setup, Storage" in of("disk").then
    real = selfcheck.timezone.now
    monkeypatch.setattr(selfcheck.timezone, "now", lambda: real() - timedelta(seconds=30))
    assert "the database's is 30.0 s ahead" in of("clock").words
    monkeypatch.setattr(selfcheck.timezone, "now", lambda: real() + timedelta(days=30))
    assert "there is none for tomorrow" in of("partitions").words
    monkeypatch.undo()
    Credential.objects.update(sealed="not-a-token")
    assert of("credentials").words == "cannot be decrypted: Core"
