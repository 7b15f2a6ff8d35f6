"""Traps and inform requests as net-snmp's tools send them, and whatever else arrives."""

import socket
import subprocess
import time
from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.traps import LINK_DOWN, Notification
from lumtar.wire import ber, pdu, usm
from lumtar.wire.ber import Malformed
from lumtar.wire.notifications import is_answer, notification
from lumtar.wire.traps import Engines, Received, Refused, is_community, read_community

ENGINE = "0x80007ed903020100000009"
ANNA = usm.User("anna", usm.AuthProtocol.SHA1, "authenticate-me", usm.PrivProtocol.AES128, "keep-it-private")
BERT = usm.User("bert", usm.AuthProtocol.SHA256, "authenticate-me")
GWEN = usm.User("gwen")
USERS = {user.name.encode(): [user] for user in (ANNA, BERT, GWEN)}


@pytest.fixture
def inlet():
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as opened:
        opened.bind(("127.0.0.1", 0))
        opened.settimeout(5)
        yield opened


def sent(inlet, command, *words):
    """The datagram that one of net-snmp's tools sends."""
    host, port = inlet.getsockname()
    said = subprocess.run(
        [command, *words[0], f"{host}:{port}", *words[1]], capture_output=True, text=True, timeout=20, check=False
    )
    assert not said.stderr or "Timeout" in said.stderr, said.stderr
    return inlet.recv(65535)


OBJECTS = [
    ("1.3.6.1.2.1.2.2.1.1.7", "i", "7"),
    ("1.3.6.1.4.1.32473.1.1", "s", "too hot"),
    ("1.3.6.1.4.1.32473.1.2", "a", "192.0.2.9"),
    ("1.3.6.1.4.1.32473.1.3", "o", "1.3.6.1.4.1.32473.7"),
]
READ = [
    ("1.3.6.1.2.1.2.2.1.1.7", 7),
    ("1.3.6.1.4.1.32473.1.1", b"too hot"),
    ("1.3.6.1.4.1.32473.1.2", "192.0.2.9"),
    ("1.3.6.1.4.1.32473.1.3", "1.3.6.1.4.1.32473.7"),
]
BINDS = [word for triple in OBJECTS for word in triple]


def test_a_trap_of_version_2c(inlet):
    read = read_community(sent(inlet, "snmptrap", ["-v2c", "-c", "a word"], ["", LINK_DOWN, *BINDS]))
    assert read == Received(Notification(LINK_DOWN, tuple(READ)), b"a word")
    assert read.notification.if_index == 7
    assert is_community(b"a word", "a word") and not is_community(b"a wor", "a word")


@pytest.mark.parametrize(("generic", "specific", "oid"), [("2", "0", LINK_DOWN), ("6", "9", "1.3.6.1.4.1.32473.0.9")])
def test_a_trap_of_version_1(inlet, generic, specific, oid):
    words = ["1.3.6.1.4.1.32473", "192.0.2.7", generic, specific, "", *BINDS]
    read = read_community(sent(inlet, "snmptrap", ["-v1", "-c", "word"], words))
    assert (read.notification.oid, read.agent, list(read.notification.objects)) == (oid, "192.0.2.7", READ)


def test_an_inform_request_is_confirmed_as_its_sender_wants_it(inlet):
    data = sent(inlet, "snmpinform", ["-v2c", "-c", "word", "-r", "0", "-t", "0.1"], ["", LINK_DOWN, *BINDS])
    read = read_community(data)
    _, asked = pdu.read_community_message(data)
    assert read.notification.oid == LINK_DOWN and is_answer(read.answer, asked.request_id)
    _, answered = pdu.read_community_message(read.answer)
    assert answered.binds == asked.binds


def test_the_sender_of_an_inform_request_takes_the_confirmation(inlet):
    host, port = inlet.getsockname()
    words = ["snmpinform", "-v2c", "-c", "word", "-r", "0", "-t", "5", f"{host}:{port}", "", LINK_DOWN]
    with subprocess.Popen(words, stderr=subprocess.PIPE, text=True) as running:
        data, sender = inlet.recvfrom(65535)
        inlet.sendto(read_community(data).answer, sender)
        assert running.wait(10) == 0


LEVELS = {
    "anna": ["-l", "authPriv", "-a", "SHA", "-A", "authenticate-me", "-x", "AES", "-X", "keep-it-private"],
    "bert": ["-l", "authNoPriv", "-a", "SHA-256", "-A", "authenticate-me"],
    "gwen": ["-l", "noAuthNoPriv"],
}


def version_3(inlet, user, *more):
    words = ["-v3", "-e", ENGINE, "-u", user, *(more or LEVELS[user])]
    return sent(inlet, "snmptrap", words, ["", LINK_DOWN, *BINDS])


@pytest.mark.parametrize("user", list(LEVELS))
def test_a_trap_of_version_3_at_each_level(inlet, user):
    read = Engines().read(version_3(inlet, user), USERS, time.monotonic())
    assert list(read.notification.objects) == READ and read.community is None


def test_whoever_does_not_know_the_password_is_not_believed(inlet):
    wrong = version_3(inlet, "bert", "-l", "authNoPriv", "-a", "SHA-256", "-A", "another-word")
    plain = version_3(inlet, "bert", "-l", "noAuthNoPriv")
    stranger = version_3(inlet, "zoe", "-l", "noAuthNoPriv")
    for data, why in ((wrong, "password or the level"), (plain, "password or the level"), (stranger, "not known")):
        with pytest.raises(Refused, match=why):
            Engines().read(data, USERS, time.monotonic())


def trap_at(boots, seconds, kind=0xA7):
    message = notification(b"", 7, BINDS_OF_OURS, confirmed=kind == 0xA6)
    _, at = pdu.read_version(message)
    _, at = ber.read_octets(message, at)
    engine = bytes.fromhex(ENGINE[2:])
    return usm.write_message(7, ANNA.level, engine, boots, seconds, ANNA, usm.scoped(engine, b"", message[at:]))


BINDS_OF_OURS = [
    ("1.3.6.1.2.1.1.3.0", ber.integer(4711, ber.TIME_TICKS)),
    ("1.3.6.1.6.3.1.1.4.1.0", ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(LINK_DOWN))),
]


def test_one_that_was_recorded_earlier_is_not_taken_again():
    engines = Engines()
    assert engines.read(trap_at(5, 1000), USERS, 0.0).notification.oid == LINK_DOWN
    engines.read(trap_at(5, 1010), USERS, 9.0)
    engines.read(trap_at(5, 1000), USERS, 20.0)
    for late in (trap_at(4, 9999), trap_at(5, 1000)):
        with pytest.raises(Refused, match="older than what"):
            engines.read(late, USERS, 400.0)
    engines.read(trap_at(6, 3), USERS, 500.0)


def test_inform_requests_of_version_3_are_refused_in_words():
    with pytest.raises(Refused, match="let the device send traps"):
        Engines().read(trap_at(5, 1000, kind=0xA6), USERS, 0.0)


@given(st.binary(max_size=120))
def test_whatever_comes_is_a_notification_or_malformed(data):
    with suppress(Malformed):
        assert isinstance(read_community(data), Received)


@given(st.data())
def test_a_trap_with_octets_changed_does_no_harm(data):
    message = bytearray(
        trap_at(5, 1000) if data.draw(st.booleans()) else notification(b"w", 7, BINDS_OF_OURS, confirmed=False)
    )
    for _ in range(data.draw(st.integers(1, 4))):
        message[data.draw(st.integers(0, len(message) - 1))] = data.draw(st.integers(0, 255))
    with suppress(Malformed, Refused):
        version, _ = pdu.read_version(bytes(message))
        if version == pdu.VERSION_3:
            Engines().read(bytes(message), USERS, 0.0)
        else:
            read_community(bytes(message))
