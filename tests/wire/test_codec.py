"""The codec: round trips, an independent encoder's bytes, published keys."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.asn1.asn1 import ASN1_COUNTER32, ASN1_OID, ASN1_STRING
from scapy.layers.snmp import SNMP, SNMPbulk, SNMPget, SNMPresponse, SNMPvarbind

from lumtar.wire import ber, pdu, usm
from lumtar.wire.ber import Malformed

OIDS = st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=20).map(lambda tail: "1.3." + ".".join(map(str, tail)))


@given(OIDS)
def test_object_identifiers_round_trip(oid):
    assert ber.dotted(ber.oid_body(oid)) == oid


@given(st.integers(-(2**63), 2**64))
def test_integers_round_trip_in_as_few_octets_as_possible(value):
    encoded = ber.integer(value)
    assert ber.read_integer(encoded, 0) == (value, len(encoded))
    body = encoded[2:]
    assert len(body) == 1 or (not (body[0] == 0 and body[1] < 0x80) and not (body[0] == 0xFF and body[1] >= 0x80))


@pytest.mark.parametrize("wrong", ["", "1", "1.x", "3.1", "1.-3", "one.two"])
def test_what_is_no_object_identifier_is_refused(wrong):
    with pytest.raises(ValueError):
        ber.oid_body(wrong)


@given(st.binary(max_size=200))
def test_rubbish_is_malformed_and_nothing_else(data):
    for read in (pdu.message_id, pdu.read_community_message, usm.read_message):
        try:
            read(data)
        except Malformed as malformed:
            assert str(malformed)


@given(number=st.integers(1, 2**31 - 1), oids=st.lists(OIDS, min_size=1, max_size=40), repetitions=st.integers(1, 60))
def test_an_independent_decoder_reads_our_requests(number, oids, repetitions):
    encoded = [ber.oid_body(oid) for oid in oids]
    get = SNMP(pdu.community_message(b"word", pdu.request(pdu.GET, number, encoded)))
    assert isinstance(get.PDU, SNMPget)
    assert get.version.val == 1 and get.community.val == b"word" and get.PDU.id.val == number
    assert [bind.oid.val for bind in get.PDU.varbindlist] == oids
    bulk = SNMP(pdu.community_message(b"word", pdu.request(pdu.GET_BULK, number, encoded, 0, repetitions)))
    assert isinstance(bulk.PDU, SNMPbulk)
    assert bulk.PDU.max_repetitions.val == repetitions


@given(number=st.integers(1, 2**31 - 1), value=st.integers(0, 2**32 - 1), text=st.binary(max_size=300))
def test_we_read_an_independent_encoders_answers(number, value, text):
    answer = SNMP(
        version="v2c",
        community="word",
        PDU=SNMPresponse(
            id=number,
            varbindlist=[
                SNMPvarbind(oid=ASN1_OID("1.3.6.1.2.1.2.2.1.10.1"), value=ASN1_COUNTER32(value)),
                SNMPvarbind(oid=ASN1_OID("1.3.6.1.2.1.31.1.1.1.18.1"), value=ASN1_STRING(text)),
            ],
        ),
    )
    data = bytes(answer)
    assert pdu.message_id(data) == number
    community, found = pdu.read_community_message(data)
    assert community == b"word"
    assert [ber.dotted(oid) for oid in found.binds.oids] == ["1.3.6.1.2.1.2.2.1.10.1", "1.3.6.1.2.1.31.1.1.1.18.1"]
    assert found.binds.values == [value, text]


def test_every_cut_of_an_answer_is_noticed():
    binds = b"".join(
        ber.tlv(0x30, ber.tlv(6, ber.oid_body(f"1.3.6.1.2.1.2.2.1.10.{n}")) + ber.integer(n * 999, ber.COUNTER32))
        for n in range(9)
    )
    head = ber.integer(7) + ber.integer(0) + ber.integer(0)
    whole = pdu.community_message(b"word", ber.tlv(pdu.RESPONSE, head + ber.tlv(0x30, binds)))
    assert len(pdu.read_community_message(whole)[1].binds.oids) == 9
    for size in range(len(whole)):
        with pytest.raises(Malformed):
            pdu.read_community_message(whole[:size])


ENGINE = bytes.fromhex("000000000000000000000002")


@pytest.mark.parametrize(
    ("protocol", "key"),
    [
        (usm.AuthProtocol.MD5, "526f5eed9fcce26f8964c2930787d82b"),
        (usm.AuthProtocol.SHA1, "6695febc9288e36282235fc7151f128497b38f3f"),
    ],
)
def test_localized_keys_are_those_of_the_standard(protocol, key):
    """RFC 3414 appendix A.3: the password maplesyrup."""
    assert usm.localized_key(protocol, "maplesyrup", ENGINE).hex() == key


@pytest.mark.parametrize("protocol", list(usm.AuthProtocol))
@pytest.mark.parametrize("priv", [None, *usm.PrivProtocol])
def test_version_3_messages_verify_and_decrypt(protocol, priv):
    user = usm.User("anna", protocol, "authenticate", priv, "keep-it-private")
    plain = usm.scoped(ENGINE, b"", pdu.request(pdu.GET, 77, [ber.oid_body("1.3.6.1.2.1.1.3.0")]))
    data = usm.write_message(4711, user.level | usm.REPORTABLE, ENGINE, 3, 99, user, plain)
    message = usm.read_message(data)
    assert (message.message_id, message.boots, message.time, message.user) == (4711, 3, 99, b"anna")
    key = usm.localized_key(protocol, user.auth_password, ENGINE)
    assert usm.verify(protocol, key, message, data)
    assert not usm.verify(protocol, key[::-1], message, data)
    spoiled = bytearray(data)
    spoiled[-1] ^= 1
    assert not usm.verify(protocol, key, usm.read_message(bytes(spoiled)), bytes(spoiled))
    body = message.body
    if priv:
        assert body != plain
        key = usm.privacy_key(protocol, priv, user.priv_password, ENGINE)
        body = usm.decrypt(priv, key, 3, 99, message.salt, body)
    assert pdu.read_pdu(body, usm.scoped_pdu_at(body)).request_id == 77


def test_a_short_password_is_refused_in_words():
    with pytest.raises(ValueError, match="8 characters"):
        usm.password_key(usm.AuthProtocol.SHA1, "short")


def test_secrets_do_not_print():
    user = usm.User("anna", usm.AuthProtocol.SHA1, "authenticate", usm.PrivProtocol.AES128, "keep-it-private")
    assert "authenticate" not in repr(user) and "private" not in repr(user).replace("priv", "")


LARGEST = {ber.COUNTER32: 2**32 - 1, ber.GAUGE32: 2**32 - 1, ber.TIME_TICKS: 2**32 - 1, ber.COUNTER64: 2**64 - 1}


@given(tag=st.sampled_from(list(LARGEST)), value=st.integers(0, 2**70))
def test_a_number_is_one_only_within_its_types_range(tag, value):
    """RFC 2578, section 7.1: whatever an agent encodes, no number passes that its type cannot hold."""
    oid = ber.oid_body("1.3.6.1.2.1.1.3.0")
    bind = ber.tlv(ber.SEQUENCE, ber.tlv(ber.OBJECT_IDENTIFIER, oid) + ber.integer(value, tag))
    (found,) = pdu.read_binds(ber.tlv(ber.SEQUENCE, bind), 0).tags
    assert found == (tag if value <= LARGEST[tag] else ber.OUT_OF_RANGE)


@given(st.integers(-(2**40), 2**40))
def test_an_integer_has_32_bits(value):
    bind = ber.tlv(ber.SEQUENCE, ber.tlv(ber.OBJECT_IDENTIFIER, b"\x2b") + ber.integer(value))
    (found,) = pdu.read_binds(ber.tlv(ber.SEQUENCE, bind), 0).tags
    assert found == (ber.INTEGER if -(2**31) <= value < 2**31 else ber.OUT_OF_RANGE)


@pytest.mark.parametrize("body", [b"\x80\x01", b"\x01\x80\x01", b"\x9f\xff\xff\xff\x7f", b"\x01" * 800])
def test_one_object_identifier_is_written_in_one_way(body):
    with pytest.raises(Malformed):
        ber.suffix(body)
