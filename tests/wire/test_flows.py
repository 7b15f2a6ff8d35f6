"""Flow datagrams by encoders that are not ours, the stand-ins' own, and whatever else arrives."""

import ipaddress
import struct

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import ICMP, IP, TCP, UDP
from scapy.layers.inet6 import IPv6
from scapy.layers.l2 import Dot1Q, Ether
from scapy.layers.netflow import (
    NetflowFlowsetV9,
    NetflowHeader,
    NetflowHeaderV5,
    NetflowHeaderV9,
    NetflowOptionsFlowset10,
    NetflowOptionsFlowsetOptionV9,
    NetflowRecordV5,
    NetflowTemplateFieldV9,
    NetflowTemplateV9,
)

from lab.flow_encoding import Encoder
from lumtar.core.flows.declared import Declared, Part
from lumtar.core.flows.records import address_numbers, address_text, empty
from lumtar.wire.ber import Malformed
from lumtar.wire.flows import netflow5, sflow, templated
from lumtar.wire.flows.exporters import Exporters
from lumtar.wire.flows.fields import VARIABLE, FieldSpec, Template

NOW = 1_795_440_000
HERE = "192.0.2.1"


def ends(records):
    return [
        tuple(address_text(int(row[f"{end}_hi"]), int(row[f"{end}_lo"])) for end in ("src", "dst")) for row in records
    ]


def read(exporters, *datagrams, sender=HERE):
    pending = templated.Pending()
    for data in datagrams:
        templated.take(data, sender, exporters, pending)
    return [records for _, records, _ in templated.read(pending)]


def test_version_5_as_another_encoder_writes_it():
    header = NetflowHeader(version=5) / NetflowHeaderV5(
        count=2,
        sysUptime=600_000,
        unixSecs=NOW,
        unixNanoSeconds=500_000_000,
        flowSequence=100,
        samplingInterval=1 << 14 | 64,
    )
    rows = [
        NetflowRecordV5(
            src="10.0.0.1", dst="10.0.0.9", input=3, output=7, dpkts=5, dOctets=4_000_000_000, first=540_000, last=590_000,
            srcport=50000, dstport=443, tcpFlags=0x12, prot=6, tos=184, src_as=64512, dst_as=64513,
        ),
        NetflowRecordV5(src="10.0.0.2", dst="10.0.0.9", dpkts=1, dOctets=40, first=4_294_967_000, last=100, prot=17),
    ]  # fmt: skip
    exporters = Exporters()
    _, found = netflow5.read(bytes(header / rows[0] / rows[1]), HERE, exporters)
    first = found[0]
    assert ends(found) == [("10.0.0.1", "10.0.0.9"), ("10.0.0.2", "10.0.0.9")]
    assert (int(first["octets"]), int(first["packets"]), int(first["input"]), int(first["output"])) == (
        4_000_000_000,
        5,
        3,
        7,
    )
    assert (int(first["src_port"]), int(first["dst_port"]), int(first["protocol"]), int(first["tos"])) == (
        50000,
        443,
        6,
        184,
    )
    assert (int(first["src_as"]), int(first["tcp_flags"]), int(first["sampling"])) == (64512, 0x12, 64)
    assert (float(first["start"]) - NOW, float(first["end"]) - NOW) == (-59.5, -9.5)
    assert float(found[1]["start"]) < NOW - 599.6, "its clock of 32 bits had wrapped"
    (domain,) = exporters.domains.values()
    assert (domain.records, domain.lost) == (2, 0)
    netflow5.read(
        bytes(NetflowHeader(version=5) / NetflowHeaderV5(count=1, flowSequence=107) / rows[0]), HERE, exporters
    )
    assert domain.lost == 5


FIELDS = [(8, 4), (12, 4), (10, 4), (14, 4), (1, 8), (2, 4), (7, 2), (11, 2), (4, 1), (22, 4), (21, 4)]


def scapy_9(number, *sets, uptime=600_000):
    return bytes(
        NetflowHeader(version=9)
        / NetflowHeaderV9(count=len(sets), sysUptime=uptime, unixSecs=NOW, packageSequence=number, SourceID=5)
        / b"".join(map(bytes, sets))
    )


def template_9(fields=FIELDS, number=300):
    listed = [NetflowTemplateFieldV9(fieldType=element, fieldLength=length) for element, length in fields]
    return NetflowFlowsetV9(
        templates=[NetflowTemplateV9(templateID=number, template_fields=listed, fieldCount=len(listed))]
    )


def row_9(source="10.0.0.1", octets=2**40, first=540_000, last=590_000):
    addresses = [ipaddress.IPv4Address(each).packed for each in (source, "10.0.0.9")]
    return b"".join(addresses) + struct.pack(">IIQIHHBII", 3, 7, octets, 9, 50000, 443, 6, first, last)


def data_set(number, *rows, padding=0):
    body = b"".join(rows) + bytes(padding)
    return struct.pack(">HH", number, 4 + len(body)) + body


def test_version_9_with_a_template_of_another_encoder():
    (found,) = read(
        Exporters(), scapy_9(1, template_9()), scapy_9(2, data_set(300, row_9(), row_9("10.0.0.2", 7), padding=3))
    )
    assert ends(found) == [("10.0.0.1", "10.0.0.9"), ("10.0.0.2", "10.0.0.9")]
    assert found["octets"].tolist() == [2**40, 7] and found["input"].tolist() == [3, 3]
    assert (found["start"] - NOW).tolist() == [-60.0, -60.0] and (found["end"] - NOW).tolist() == [-10.0, -10.0]


def test_data_before_its_template_waits_and_what_is_lost_is_counted():
    exporters = Exporters()
    assert read(exporters, scapy_9(1, data_set(300, row_9()))) == []
    (domain,) = exporters.domains.values()
    assert domain.held_sets == 1
    (found,) = read(exporters, scapy_9(2, template_9()))
    assert len(found) == 1 and domain.held_sets == 0 and domain.lost == 0
    read(exporters, scapy_9(9, data_set(300, row_9())))
    assert domain.lost == 6, "datagrams"
    read(exporters, scapy_9(5, data_set(300, row_9())))
    assert domain.lost == 5, "one of them came late"
    read(exporters, scapy_9(2**31, data_set(300, row_9())))
    assert domain.lost == 5, "it was restarted"


def test_what_waits_too_much_or_too_long_is_dropped_and_counted(monkeypatch):
    exporters = Exporters()
    for number in range(400):
        read(exporters, scapy_9(number, data_set(300 + number % 7, row_9())))
    (domain,) = exporters.domains.values()
    assert domain.held_sets == 256 and domain.no_template == 144
    monkeypatch.setattr("lumtar.wire.flows.exporters.HELD_S", -1.0)
    domain.expire()
    assert domain.held_sets == 0 and domain.no_template == 400


def test_sampling_comes_from_options():
    options = NetflowOptionsFlowset10  # scapy's class for IPFIX; version 9 is written by hand
    assert options is not None and NetflowOptionsFlowsetOptionV9 is not None
    template = struct.pack(">HHHHH", 1, 18 + 2, 400, 4, 8) + struct.pack(">HHHHHH", 1, 4, 48, 1, 50, 4)[:12]
    template = (
        struct.pack(">HH", 1, 4 + 6 + 12) + struct.pack(">HHH", 400, 4, 8) + struct.pack(">HHHHHH", 1, 4, 48, 1, 50, 4)
    )
    told = data_set(400, struct.pack(">IBI", 1, 2, 128))
    with_sampler = [*FIELDS, (48, 1)]
    exporters = Exporters()
    found = read(
        exporters,
        scapy_9(1, template_9(with_sampler)),
        template_datagram(2, template),
        template_datagram(3, told),
    )
    assert found == []
    (records,) = read(exporters, scapy_9(4, data_set(300, row_9() + b"\x02", row_9() + b"\x05")))
    assert records["sampling"].tolist() == [128, 128], "the only one that is told of holds for all"
    exporters.domains[HERE, "netflow9", 5].sampling[5] = 16
    (records,) = read(exporters, scapy_9(5, data_set(300, row_9() + b"\x02", row_9() + b"\x05", row_9() + b"\x07")))
    assert records["sampling"].tolist() == [128, 16, 0]


def template_datagram(number, body):
    return struct.pack(">HHIIII", 9, 1, 600_000, NOW, number, 5) + body


def ipfix(sequence, *sets, domain=7):
    body = b"".join(sets)
    return struct.pack(">HHIII", 10, 16 + len(body), NOW, sequence, domain) + body


def ipfix_template(number, fields, set_number=2, scope=None):
    body = struct.pack(">HH", number, len(fields)) + (b"" if scope is None else struct.pack(">H", scope))
    for element, length, *enterprise in fields:
        body += struct.pack(">HH", element | (0x8000 if enterprise else 0), length)
        body += b"".join(struct.pack(">I", each) for each in enterprise)
    return struct.pack(">HH", set_number, 4 + len(body)) + body


def v6(text):
    return ipaddress.IPv6Address(text).packed


def test_ipfix_in_version_6_with_reduced_sizes_and_fields_of_enterprises():
    fields = [(27, 16), (28, 16), (1, 3), (2, 1), (99, 8, 32473), (152, 8), (153, 8), (10, 2), (61, 1)]
    row = (
        v6("2001:db8::1")
        + v6("2001:db8::9")
        + b"\x01\x02\x03"
        + b"\x04"
        + bytes(8)
        + struct.pack(">QQHB", NOW * 1000 - 5000, NOW * 1000 - 250, 12, 1)
    )
    (found,) = read(Exporters(), ipfix(0, ipfix_template(256, fields)), ipfix(0, data_set(256, row)))
    assert ends(found) == [("2001:db8::1", "2001:db8::9")]
    assert (int(found["octets"][0]), int(found["packets"][0]), int(found["input"][0]), int(found["direction"][0])) == (
        0x010203,
        4,
        12,
        1,
    )
    assert (found["start"] - NOW).tolist() == [-5.0] and (found["end"] - NOW).tolist() == [-0.25]


def test_fields_of_variable_length():
    fields = [(8, 4), (12, 4), (96, VARIABLE), (1, VARIABLE)]
    row = ipaddress.IPv4Address("10.0.0.1").packed + ipaddress.IPv4Address("10.0.0.9").packed
    rows = [row + b"\x03web" + b"\x02\x01\x00", row + b"\xff\x00\x05other" + b"\x04\x00\x00\x00\x07"]
    exporters = Exporters()
    padded = ipfix(0, data_set(256, rows[0], padding=3), data_set(256, rows[1], padding=2))
    (found,) = read(exporters, ipfix(0, ipfix_template(256, fields)), padded)
    assert found["octets"].tolist() == [256, 7], "padding is no beginning of the next set"
    read(exporters, ipfix(2, data_set(256, rows[0])))
    assert next(iter(exporters.domains.values())).lost == 0, "records are counted by their own lengths"


def test_bidirectional_flows_are_two_records():
    fields = [(8, 4), (12, 4), (7, 2), (11, 2), (10, 4), (14, 4), (1, 8), (2, 4), (1, 8, 29305), (2, 4, 29305)]
    row = ipaddress.IPv4Address("10.0.0.1").packed + ipaddress.IPv4Address("10.0.0.9").packed
    row += struct.pack(">HHIIQIQI", 50000, 443, 3, 7, 1000, 10, 9000, 12)
    forward, back = read(Exporters(), ipfix(0, ipfix_template(256, fields)), ipfix(0, data_set(256, row)))
    assert ends(forward) == [("10.0.0.1", "10.0.0.9")] and ends(back) == [("10.0.0.9", "10.0.0.1")]
    assert (int(back["octets"][0]), int(back["packets"][0]), int(back["src_port"][0]), int(back["input"][0])) == (
        9000,
        12,
        443,
        7,
    )


def test_templates_are_withdrawn_and_replaced():
    exporters = Exporters()
    read(exporters, ipfix(0, ipfix_template(256, [(8, 4), (1, 4)])), ipfix(0, ipfix_template(257, [(12, 4)])))
    domain = exporters.domains[HERE, "ipfix", 7]
    read(exporters, ipfix(0, struct.pack(">HHHH", 2, 8, 256, 0)))
    assert list(domain.templates) == [257]
    read(exporters, ipfix(0, struct.pack(">HHHH", 2, 8, 2, 0)))
    assert not domain.templates
    one, other = (ipfix(0, ipfix_template(256, fields)) for fields in ([(8, 4), (1, 4)], [(1, 8)]))
    found = read(
        exporters,
        one,
        ipfix(0, data_set(256, struct.pack(">II", 1, 5))),
        other,
        ipfix(1, data_set(256, struct.pack(">Q", 9))),
    )
    assert [each["octets"].tolist() for each in found] == [[5], [9]], "each set by the template of its time"


@pytest.mark.parametrize(
    "data",
    [
        struct.pack(">HHIII", 10, 99, NOW, 0, 7),
        ipfix(0, struct.pack(">HH", 2, 3)),
        ipfix(0, struct.pack(">HH", 2, 90)),
        ipfix(0, struct.pack(">HHHH", 2, 8, 256, 9)),
        ipfix(0, struct.pack(">HHHHHH", 2, 12, 256, 401, 1, 4)),
        ipfix(0, struct.pack(">HHHH", 3, 8, 256, 1)),
        ipfix(0, struct.pack(">HHHHHHH", 3, 14, 256, 1, 5, 1, 4)),
        b"\x00\x09",
    ],
)
def test_datagrams_that_lie_are_malformed(data):
    with pytest.raises(Malformed):
        read(Exporters(), data)


def test_ten_thousand_templates_are_not_all_kept():
    exporters = Exporters()
    for first in range(256, 10_256, 100):
        read(exporters, ipfix(0, *(ipfix_template(number, [(1, 4)]) for number in range(first, first + 100))))
    assert len(exporters.domains[HERE, "ipfix", 7].templates) == 4_000


def test_a_template_without_octets_reads_nothing():
    exporters = Exporters()
    assert read(exporters, ipfix(0, ipfix_template(256, [(1, 0)])), ipfix(0, data_set(256, b"1234"))) == []
    assert Template(256, (FieldSpec(1, 0),)).read([b"1234"])[0].number == 0


def frame_sample(packet, rate=512, into=3, out=7, size=None):
    header = bytes(packet)[:128]
    padded = header + bytes(-len(header) % 4)
    raw = struct.pack(">IIIIII", 1, 16 + len(padded), 1, size or len(bytes(packet)), 4, len(header)) + padded
    sample = struct.pack(">IIIIIIII", 1, 5, rate, 0, 0, into, out, 1) + raw
    return struct.pack(">II", 1, len(sample)) + sample


def counter_sample():
    generic = struct.pack(
        ">IIQIIQIIIIIIQIIIIII", 7, 6, 10**9, 1, 3, 123456789012, 1, 2, 3, 4, 5, 6, 987654321, 1, 2, 3, 4, 5, 0
    )
    sample = struct.pack(">III", 1, 7, 1) + struct.pack(">II", 1, len(generic)) + generic
    return struct.pack(">II", 2, len(sample)) + sample


def sflow_datagram(*samples, sequence=1):
    agent = ipaddress.IPv4Address("192.0.2.7").packed
    return struct.pack(">II", 5, 1) + agent + struct.pack(">IIII", 0, sequence, 1000, len(samples)) + b"".join(samples)


def read_sflow(*datagrams):
    exporters, samples = Exporters(), sflow.Samples()
    for data in datagrams:
        sflow.take(data, HERE, exporters, samples, float(NOW))
    return exporters, samples, [records for _, records in sflow.read(samples)]


def test_samples_of_frames_that_another_encoder_made():
    frames = [
        Ether() / IP(src="10.0.0.1", dst="10.0.0.9", tos=184) / TCP(sport=50000, dport=443, flags="SA") / bytes(60),
        Ether() / Dot1Q(vlan=20) / IPv6(src="2001:db8::1", dst="2001:db8::9", tc=184) / UDP(sport=53, dport=50001),
        Ether() / Dot1Q(vlan=20) / Dot1Q(vlan=30) / IP(src="10.0.0.3", dst="10.0.0.4") / ICMP(),
        Ether(type=0x0806) / bytes(28),
        Ether() / IP(src="10.0.0.5", dst="10.0.0.6", frag=99, proto=6) / bytes(20),
    ]
    exporters, _, (found,) = read_sflow(sflow_datagram(*(frame_sample(each) for each in frames)))
    assert ends(found) == [
        ("10.0.0.1", "10.0.0.9"), ("2001:db8::1", "2001:db8::9"), ("10.0.0.3", "10.0.0.4"), ("10.0.0.5", "10.0.0.6"),
    ]  # fmt: skip
    assert found["src_port"].tolist() == [50000, 53, 0, 0] and found["dst_port"].tolist() == [443, 50001, 0, 0]
    assert found["protocol"].tolist() == [6, 17, 1, 6] and found["tos"].tolist() == [184, 184, 0, 0]
    assert found["octets"][0] == len(bytes(frames[0])) and found["sampling"].tolist() == [512] * 4
    assert int(found["tcp_flags"][0]) == 0x12
    assert (found["input"].tolist(), found["output"].tolist()) == ([3] * 4, [7] * 4)
    (domain,) = exporters.domains.values()
    assert domain.records == 5, "what is no IP was sampled all the same"


def test_samples_that_the_agent_took_apart_itself_and_counters():
    packet = (
        struct.pack(">II", 900, 6) + ipaddress.IPv4Address("10.0.0.1").packed + ipaddress.IPv4Address("10.0.0.9").packed
    )
    packet += struct.pack(">IIII", 50000, 443, 0x10, 184)
    body = struct.pack(">IIIIIIIIIII", 1, 0, 5, 64, 0, 0, 0, 3, 2, 9, 1) + struct.pack(">II", 3, len(packet)) + packet
    expanded = struct.pack(">II", 3, len(body)) + body
    _, samples, (found,) = read_sflow(sflow_datagram(expanded, counter_sample()))
    assert ends(found) == [("10.0.0.1", "10.0.0.9")] and found["octets"].tolist() == [900]
    assert (int(found["input"][0]), int(found["output"][0])) == (3, 0), (
        "one that left by several interfaces, or by none"
    )
    ((_, counters),) = samples.counters
    assert (counters.if_index, counters.in_octets, counters.out_octets) == (7, 123456789012, 987654321)


def test_sequence_numbers_of_sflow_tell_of_lost_datagrams():
    exporters, _, _ = read_sflow(*(sflow_datagram(sequence=number) for number in (1, 2, 6)))
    assert next(iter(exporters.domains.values())).lost == 3


@settings(max_examples=60)
@given(
    st.sampled_from(["netflow5", "netflow9", "ipfix"]),
    st.lists(
        st.tuples(
            st.ip_addresses(v=4),
            st.ip_addresses(v=4),
            st.integers(0, 2**32 - 1),
            st.integers(0, 65535),
            st.floats(0, 50),
        ),
        min_size=1,
        max_size=70,
    ),
)
def test_what_stand_ins_send_is_what_is_read(protocol, rows):
    made = empty(len(rows))
    for place, (source, goal, octets, port, lasted) in enumerate(rows):
        made["src_lo"][place], made["dst_lo"][place] = (address_numbers(str(each))[1] for each in (source, goal))
        made["octets"][place], made["src_port"][place] = octets, port
        made["start"][place], made["end"][place] = NOW - round(lasted, 3), NOW
    exporters = Exporters()
    datagrams = Encoder(protocol).datagrams(made, float(NOW), NOW - 600.0)
    if protocol == "netflow5":
        found = [netflow5.read(data, HERE, exporters)[1] for data in datagrams]
    else:
        found = read(exporters, *datagrams)
    assert [pair for each in found for pair in ends(each)] == ends(made)
    assert [value for each in found for value in each["octets"].tolist()] == made["octets"].tolist()
    assert [value for each in found for value in each["start"].tolist()] == pytest.approx(
        made["start"].tolist(), abs=0.002
    )
    assert next(iter(exporters.domains.values())).lost == 0


STARTS = [
    ipfix(0, ipfix_template(256, [(8, 4), (96, VARIABLE), (1, 3)]), data_set(256, bytes(40))),
    scapy_9(1, template_9(), data_set(300, row_9())),
    bytes(NetflowHeader(version=5) / NetflowHeaderV5(count=1) / NetflowRecordV5()),
    sflow_datagram(frame_sample(Ether() / IP() / TCP()), counter_sample()),
]


@settings(max_examples=300)
@given(st.data())
def test_whatever_comes_is_read_or_malformed(data):
    message = bytearray(data.draw(st.one_of(st.sampled_from(STARTS), st.binary(max_size=200))))
    for _ in range(data.draw(st.integers(0, 6))):
        if message:
            message[data.draw(st.integers(0, len(message) - 1))] = data.draw(st.integers(0, 255))
    cut = bytes(message[: data.draw(st.integers(0, len(message)))]) if message else b""
    exporters, pending, samples = Exporters(), templated.Pending(), sflow.Samples()
    for reader in (
        lambda: netflow5.read(cut, HERE, exporters),
        lambda: templated.take(cut, HERE, exporters, pending),
        lambda: sflow.take(cut, HERE, exporters, samples, float(NOW)),
    ):
        try:
            reader()
        except Malformed:
            continue
    for _, records, *_ in [*templated.read(pending), *sflow.read(samples)]:
        assert len(records) <= 4000


TIMED = [(8, 4), (12, 4), (7, 2), (11, 2), (4, 1), (1, 4)]


def timed_row(*values, layout, protocol=6, ports=(50000, 443)):
    row = ipaddress.IPv4Address("10.0.0.1").packed + ipaddress.IPv4Address("10.0.0.9").packed
    return row + struct.pack(">HHBI", *ports, protocol, 1000) + struct.pack(layout, *values)


def times(exporters, *datagrams):
    pending = templated.Pending()
    for data in datagrams:
        templated.take(data, HERE, exporters, pending)
    return [found for _, _, found in templated.read(pending)]


def test_declared_fields_tell_of_response_times():
    fields = [*TIMED, (1, 4, 32473), (2, 2, 32473), (3, 4, 32473)]
    data = ipfix(0, data_set(256, timed_row(24_000, 90, 0, layout=">IHI"), timed_row(0, 0, 0, layout=">IHI")))
    exporters = Exporters()
    assert times(exporters, ipfix(0, ipfix_template(256, fields)), data) == [None], "nothing is declared yet"
    exporters.declare([Declared(32473, 2, Part.SERVER, 1000.0), Declared(32473, 1, Part.NETWORK)])
    (found,) = times(exporters, data)
    np.testing.assert_array_equal(found["network"], [24_000, np.nan])
    np.testing.assert_array_equal(found["server"], [90_000, np.nan])
    exporters.declare([Declared(32473, 2, Part.SERVER, 1000.0), Declared(32473, 3, Part.RESPONSES)])
    (found,) = times(exporters, ipfix(9, data_set(256, timed_row(0, 90, 3, layout=">IHI"))))
    assert found["server"].tolist() == [30_000.0] and found["responses"].tolist() == [3]
    exporters.declare([])
    assert times(exporters, data) == [None]


def test_declared_fields_of_version_9_have_no_enterprise():
    exporters = Exporters()
    exporters.declare([Declared(0, 45_001, Part.CLIENT_SIDE, 1000.0), Declared(0, 45_002, Part.SERVER_SIDE, 1000.0)])
    listed = [*TIMED, (45_001, 4), (45_002, 4)]
    # The other encoder keeps the first bit of an element for IPFIX.
    body = struct.pack(">HH", 300, len(listed)) + b"".join(struct.pack(">HH", *each) for each in listed)
    template = struct.pack(">HH", 0, 4 + len(body)) + body
    rows = [timed_row(*each, layout=">II") for each in ((2, 5), (0, 5), (0, 0))]
    (found,) = times(exporters, scapy_9(0, template, data_set(300, *rows)))
    np.testing.assert_array_equal(found["network"], [7_000, 5_000, np.nan])


def test_declared_fields_are_read_where_lengths_differ_as_well():
    exporters = Exporters()
    exporters.declare([Declared(32473, 1, Part.NETWORK)])
    fields = [*TIMED, (96, VARIABLE), (1, 4, 32473)]
    rows = [
        timed_row(layout="") + b"\x03web" + struct.pack(">I", 700),
        timed_row(layout="") + b"\x00" + struct.pack(">I", 900),
    ]
    (found,) = times(exporters, ipfix(0, ipfix_template(256, fields), data_set(256, *rows)))
    assert found["network"].tolist() == [700, 900]


def asked_for(exporters, *datagrams):
    return [exporters.names[number] for found in read(exporters, *datagrams) for number in found["server_name"]]


def test_the_host_of_http_is_read_as_the_standard_has_it():
    fields = [*TIMED, (460, VARIABLE)]
    names = (b"Catalogue.Example:8080", b"", b"x" * 254, b"\xffwww")
    rows = [timed_row(layout="") + bytes([len(name)]) + name for name in names]
    template, data = ipfix_template(256, fields), data_set(256, *rows)
    assert asked_for(Exporters(), ipfix(0, template, data)) == ["catalogue.example", "", "x" * 100, ""]


def test_declared_names_of_servers_are_read_and_nothing_else_changes():
    fields = [*TIMED, (1, 4, 32473), (3, 40, 32473)]
    rows = [timed_row(700, layout=">I") + name.ljust(40, b"\0") for name in (b"films.example", b"")]
    template, data = ipfix(0, ipfix_template(256, fields)), data_set(256, *rows)
    exporters = Exporters()
    assert asked_for(exporters, template, ipfix(0, data)) == ["", ""], "nothing is declared yet"
    exporters.declare([Declared(32473, 3, Part.SERVER_NAME)])
    assert asked_for(exporters, ipfix(2, data)) == ["films.example", ""]
    assert times(exporters, ipfix(4, data)) == [None]
    exporters.declare([Declared(32473, 3, Part.SERVER_NAME), Declared(32473, 1, Part.NETWORK)])
    (found,) = times(exporters, ipfix(6, data))
    assert found["network"].tolist() == [700, 700]


def test_a_bidirectional_flow_tells_how_long_its_handshake_took():
    fields = [*TIMED, (6, 1), (1, 4, 29305), (152, 8), (152, 8, 29305)]
    rows = [
        timed_row(flags, 900, NOW * 1000, NOW * 1000 + later, layout=">BIQQ", protocol=protocol)
        for flags, later, protocol in ((0x1B, 24, 6), (0x1B, 0, 6), (0x18, 24, 6), (0x1B, 24, 17), (0x1B, -3, 6))
    ]
    forward, back = times(Exporters(), ipfix(0, ipfix_template(256, fields), data_set(256, *rows)))
    np.testing.assert_array_equal(forward["network"], [24_000, 500, np.nan, np.nan, np.nan])
    assert np.isnan(forward["server"]).all() and back is None
