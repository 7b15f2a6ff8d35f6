"""The hour around an alarm as a picture."""

import struct
from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm, Message
from lumtar.domain.alarms.services import apply
from lumtar.domain.calling.channels.registry import Message as Composed
from lumtar.domain.calling.channels.registry import Told
from lumtar.domain.inventory.models import Interface
from lumtar.domain.reports import hour_picture
from tests.alarms import first_rules, plan_for, send_due, transition
from tests.network import fill

pytestmark = pytest.mark.django_db


@pytest.fixture
def network():
    return fill(2.0)


def composed(alarm):
    told = Told(
        alarm.pk, "interface 1", alarm.label, alarm.site, alarm.type, Severity.MAJOR, "94 % full",
        datetime.now(UTC), alarm.raised_at,
    )  # fmt: skip
    return Composed("message-1", "subject", "text", (told,))


def raised(device, port=None):
    first_rules()
    apply([transition(device, Severity.MAJOR, "94 % full", interface=port, type="test", plan=plan_for("a@b.example"))])
    return Alarm.objects.get(type="test")


def test_it_is_a_png_of_the_ports_hour(network):
    port = Interface.objects.get(device=network[0], if_index=1)
    picture = hour_picture.added_to(composed(raised(network[0], port))).picture
    assert picture.startswith(b"\x89PNG")
    assert struct.unpack(">II", picture[16:24]) == (720, 240)
    quiet = hour_picture.of_port(port.pk, "Transport A", datetime.now(UTC) - timedelta(days=1), Severity.MAJOR)
    assert quiet == b"", "nothing was measured then"


def test_an_alarm_of_a_device_has_none(network):
    message = composed(raised(network[0]))
    assert hour_picture.added_to(message) is message


def test_the_message_goes_out_whatever_is_wrong_with_it(network, monkeypatch, mailoutbox):
    port = Interface.objects.get(device=network[0], if_index=1)
    raised(network[0], port)

    def fails(*_):
        raise ValueError("no such colour")

    monkeypatch.setattr(hour_picture, "of_port", fails)
    send_due()
    assert Message.objects.get().state == "sent" and not mailoutbox[0].attachments


def test_a_mail_has_it_attached(network, mailoutbox):
    raised(network[0], Interface.objects.get(device=network[0], if_index=1))
    send_due()
    assert b"\x89PNG" in mailoutbox[0].message().as_bytes() or "image/png" in str(mailoutbox[0].message())
