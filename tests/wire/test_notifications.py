"""Traps and inform requests, as an independent decoder reads them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.snmp import SNMP, SNMPinform, SNMPtrapv2

from lumtar.wire import ber, pdu
from lumtar.wire.ber import Malformed
from lumtar.wire.notifications import is_answer, notification

BINDS = [
    ("1.3.6.1.2.1.1.3.0", ber.integer(4711, ber.TIME_TICKS)),
    ("1.3.6.1.6.3.1.1.4.1.0", ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body("1.3.6.1.2.1.118.0.2"))),
    ("1.3.6.1.2.1.118.1.2.2.1.10.0.1", ber.tlv(ber.OCTET_STRING, b"x" * 300)),
]


@pytest.mark.parametrize(("confirmed", "kind"), [(True, SNMPinform), (False, SNMPtrapv2)])
def test_another_decoder_reads_it(confirmed, kind):
    read = SNMP(notification(b"word", 2**30 - 1, BINDS, confirmed=confirmed))
    assert read.version.val == 1 and read.community.val == b"word"
    assert isinstance(read.PDU, kind) and read.PDU.id.val == 2**30 - 1
    assert [bind.oid.val for bind in read.PDU.varbindlist] == [oid for oid, _ in BINDS]
    values = [bind.value.val for bind in read.PDU.varbindlist]
    assert values == [4711, "1.3.6.1.2.1.118.0.2", b"x" * 300]


def answer(number, status=0, kind=pdu.RESPONSE):
    return pdu.community_message(b"word", pdu.request(kind, number, [], status))


def test_only_the_answer_to_this_request_counts():
    assert is_answer(answer(7), 7)
    assert not is_answer(answer(8), 7) and not is_answer(answer(7, status=5), 7)
    assert not is_answer(answer(7, kind=pdu.GET), 7)


@given(st.binary(max_size=80))
def test_whatever_comes_is_an_answer_or_malformed(data):
    try:
        assert is_answer(data, 7) in (True, False)
    except Malformed as error:
        assert str(error)
