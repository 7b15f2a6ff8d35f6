"""Devices that misbehave, played by our stand-ins; and our stand-ins read by somebody else's tools."""

import asyncio
import socket
import subprocess
import time

import pytest

from bench.ports import free_port
from lumtar.wire import ber, oids, pdu, usm
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Community, Patience, Session
from lumtar.wire.tables import read_columns
from lumtar.wire.transport import Transport
from tests.lab.boxes import COMMUNITY, agent, box

QUICK = Patience(0.25, 2)
USER = usm.User("anna", usm.AuthProtocol.SHA256, "authenticate-me", usm.PrivProtocol.AES128, "keep-it-private")


@pytest.fixture
async def transport():
    made = Transport()
    yield made
    made.close()


@pytest.fixture
async def device(loopback):
    running = agent(box(address=next(loopback), ports=60), free_port(), time.time())
    yield running
    running.close()


@pytest.fixture
async def secure_device(loopback):
    running = agent(box(address=next(loopback)), free_port(), time.time(), USER)
    yield running
    running.close()


def ask(transport, device, credential=None, patience=QUICK):
    return Session(transport, socket.AF_INET, device.address, credential or Community(COMMUNITY), patience)


async def tool(*words):
    process = await asyncio.create_subprocess_exec(*words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    out, _ = await asyncio.wait_for(process.communicate(), 15)
    return out.decode()


async def test_somebody_elses_tool_walks_our_agent(device):
    where = f"{device.address[0]}:{device.address[1]}"
    out = await tool("snmpbulkwalk", "-v2c", "-c", COMMUNITY, "-On", where, "1.3.6.1.2.1")
    lines = [line for line in out.splitlines() if " = " in line]
    assert not [line for line in lines if "Error" in line or "not increasing" in line]
    assert sum(".1.3.6.1.2.1.31.1.1.1.6." in line for line in lines) == 60
    assert any(".1.3.6.1.2.1.25.3.3.1.2.1 = INTEGER" in line for line in lines)
    assert any(".1.3.6.1.2.1.99.1.1.1.4.2 = INTEGER" in line for line in lines)
    plain = await tool("snmpwalk", "-v2c", "-c", COMMUNITY, "-On", where, "1.3.6.1.2.1.2.2.1.2")
    assert len(plain.splitlines()) == 60


async def test_somebody_elses_tool_speaks_version_3_to_it(secure_device):
    where = f"{secure_device.address[0]}:{secure_device.address[1]}"
    words = [
        "-v3",
        "-u",
        "anna",
        "-l",
        "authPriv",
        "-a",
        "SHA-256",
        "-x",
        "AES",
        "-X",
        "keep-it-private",
        "-t1",
        "-r0",
        "-A",
    ]
    assert "tst-acc-1" in await tool("snmpget", *words, "authenticate-me", where, "1.3.6.1.2.1.1.5.0")
    assert "Authentication failure" in await tool("snmpget", *words, "not-the-password", where, "1.3.6.1.2.1.1.5.0")


@pytest.mark.parametrize("secure", [False, True])
async def test_columns_of_any_length(transport, device, secure_device, secure):
    running, credential = (secure_device, USER) if secure else (device, None)
    rows = len(running.device.box.ports)
    for known in (None, rows):
        found = await read_columns(
            ask(transport, running, credential), [oids.IF_NAME, oids.IF_HC_IN_OCTETS, oids.IF_ALIAS], known
        )
        assert [len(column.values) for column in found] == [rows] * 3
        assert found[0].values[-1] == f"g{rows}".encode()


async def test_a_version_3_device_that_restarts_is_understood_again(transport, secure_device):
    session = ask(transport, secure_device, USER)
    first = (await session.get([oids.SYS_UPTIME])).values[0]
    secure_device.device.restart()
    assert (await session.get([oids.SYS_UPTIME])).values[0] < first


async def test_wrong_version_3_credentials(transport, secure_device):
    wrong = usm.User("anna", usm.AuthProtocol.SHA256, "authenticate-you", usm.PrivProtocol.AES128, "keep-it-private")
    lower = usm.User("anna", usm.AuthProtocol.SHA256, "authenticate-me")
    nobody = usm.User("zoe", usm.AuthProtocol.SHA256, "authenticate-me", usm.PrivProtocol.AES128, "keep-it-private")
    for user, kind in ((wrong, FaultKind.WRONG_KEY), (lower, FaultKind.LEVEL), (nobody, FaultKind.UNKNOWN_USER)):
        with pytest.raises(Fault) as met:
            await ask(transport, secure_device, user).get([oids.SYS_UPTIME])
        assert met.value.kind is kind


GARBLED = [
    ({"cut_short": True}, FaultKind.GARBLED, "cut short"),
    ({"wrong_number": True}, FaultKind.GARBLED, "number of another request"),
    ({"other_address": True}, FaultKind.GARBLED, "which was not asked"),
    ({"silent": True}, FaultKind.NO_ANSWER, "no answer on UDP"),
]


@pytest.mark.parametrize(("manners", "kind", "words"), GARBLED, ids=[words for _, _, words in GARBLED])
async def test_bad_answers_are_told_apart(transport, device, manners, kind, words):
    for name, value in manners.items():
        setattr(device.device.manners, name, value)
    with pytest.raises(Fault, match=words) as met:
        await ask(transport, device).get([oids.SYS_UPTIME])
    assert met.value.kind is kind
    # Nothing else is disturbed: the same transport reads the device as soon as it behaves.
    for name in manners:
        setattr(device.device.manners, name, False)
    await asyncio.sleep(0.05)
    assert (await ask(transport, device).get([oids.SYS_NAME])).values == [b"tst-acc-1"]


async def test_an_answer_that_comes_twice_counts_once(transport, device):
    device.device.manners.twice = True
    session = ask(transport, device)
    for _ in range(3):
        assert (await session.get([oids.SYS_NAME])).values == [b"tst-acc-1"]
    await asyncio.sleep(0.05)
    assert transport.counts["late or unasked"] + transport.counts["twice"] == 3


async def test_a_late_answer_is_taken_if_it_is_still_waited_for(transport, device):
    device.device.manners.delay = 0.35
    assert (await ask(transport, device).get([oids.SYS_NAME])).values == [b"tst-acc-1"]
    assert transport.counts["retries"] == 1


async def test_lost_answers_are_asked_for_again(transport, device):
    device.device.manners.loss = 0.4
    session = ask(transport, device, patience=Patience(0.05, 12))
    for _ in range(10):
        assert (await session.get([oids.SYS_NAME])).values == [b"tst-acc-1"]
    assert transport.counts["retries"] > 0


async def test_a_table_with_holes(transport, device):
    column = next(column for column in device.device.mib.columns if column.prefix == oids.IF_HC_IN_OCTETS)
    kept = [place for place in range(60) if place % 7]
    whole = column.values
    column.indexes = [column.indexes[place] for place in kept]
    column.values = lambda at: [whole(at)[place] for place in kept]
    found = await read_columns(ask(transport, device), [oids.IF_OPER_STATUS, oids.IF_HC_IN_OCTETS], 60)
    assert len(found[0].values) == 60
    assert len(found[1].values) == len(kept)
    assert ber.subidentifiers([8]) not in found[1].indexes


class Liar(asyncio.DatagramProtocol):
    """Answers every request with whatever a function makes of it."""

    def __init__(self, answer):
        self.answer = answer

    def connection_made(self, transport):
        self.transport = transport

    def datagram_received(self, data, address):
        self.transport.sendto(self.answer(data), address)


async def lying(answer, transport, host):
    loop = asyncio.get_running_loop()
    outlet, _ = await loop.create_datagram_endpoint(lambda: Liar(answer), local_addr=(host, 0))
    address = outlet.get_extra_info("sockname")
    return outlet, Session(transport, socket.AF_INET, address, Community("x"), QUICK)


def answering(binds, status=0):
    def answer(data):
        _, request = pdu.read_community_message(data)
        head = ber.integer(request.request_id) + ber.integer(status) + ber.integer(0)
        return pdu.community_message(b"x", ber.tlv(pdu.RESPONSE, head + ber.tlv(0x30, binds)))

    return answer


async def test_a_device_that_repeats_itself_for_ever_is_left(transport, loopback):
    same = ber.tlv(0x30, ber.tlv(6, oids.IF_DESCR + b"\x05") + ber.tlv(4, b"again"))
    outlet, session = await lying(answering(same * 3), transport, next(loopback))
    with pytest.raises(Fault, match="go in circles") as met:
        await read_columns(session, [oids.IF_DESCR])
    assert met.value.kind is FaultKind.LOOP
    outlet.close()


@pytest.mark.parametrize(("status", "words"), [(5, "the error genErr"), (16, "refused access"), (99, "the error 99")])
async def test_error_status_is_kept(transport, loopback, status, words):
    outlet, session = await lying(answering(b"", status), transport, next(loopback))
    with pytest.raises(Fault, match=words):
        await session.get([oids.SYS_UPTIME])
    outlet.close()


async def test_too_big_is_asked_for_in_smaller_pieces(transport, loopback):
    asked = []

    def answer(data):
        _, request = pdu.read_community_message(data)
        asked.append(request.error_index)
        if request.error_index > 10:
            return answering(b"", 1)(data)
        return answering(ber.tlv(0x30, ber.tlv(6, oids.IF_TYPE + b"\x01") + ber.integer(6)))(data)

    outlet, session = await lying(answer, transport, next(loopback))
    found = await read_columns(session, [oids.IF_DESCR])
    assert found[0].values == []
    assert asked == [48, 24, 12, 6]
    outlet.close()


async def test_an_empty_answer_to_a_bulk_request(transport, loopback):
    outlet, session = await lying(answering(b""), transport, next(loopback))
    with pytest.raises(Fault, match="nothing at all"):
        await read_columns(session, [oids.IF_DESCR])
    outlet.close()


async def test_somebody_elses_tool_reads_our_agent_in_version_1(device):
    where = f"{device.address[0]}:{device.address[1]}"
    out = await tool("snmpwalk", "-v1", "-c", COMMUNITY, "-On", where, "1.3.6.1.2.1")
    lines = [line for line in out.splitlines() if " = " in line]
    assert sum(".1.3.6.1.2.1.2.2.1.2." in line for line in lines) == 60
    assert not [line for line in lines if "Counter64" in line]
    missing = await tool("snmpget", "-v1", "-c", COMMUNITY, "-On", where, "1.3.6.1.2.1.1.3.0", "1.3.6.1.2.1.1.99.0")
    assert "noSuchName" in missing


async def test_version_1_through_our_own_session(transport, device):
    session = ask(transport, device, Community(COMMUNITY, pdu.VERSION_1))
    found = await read_columns(session, [oids.IF_DESCR, oids.IF_HC_IN_OCTETS], 60)
    assert [len(column.values) for column in found] == [60, 0]


@pytest.mark.parametrize("priv", list(usm.PrivProtocol))
async def test_every_privacy_protocol(transport, loopback, priv):
    user = usm.User("anna", usm.AuthProtocol.SHA1, "authenticate-me", priv, "keep-it-private")
    running = agent(box(address=next(loopback)), free_port(), time.time(), user)
    assert (await ask(transport, running, user).get([oids.SYS_NAME])).values == [b"tst-acc-1"]
    running.close()
