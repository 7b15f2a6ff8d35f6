"""NetFlow version 9 (RFC 3954) and IPFIX (RFC 7011): sets of templates, of options and of data, read with the templates before them."""

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from lumtar.core.flows.declared import Declared, Part
from lumtar.core.flows.records import MAPPED, Records, empty
from lumtar.core.flows.response_times import Times, times_of
from lumtar.wire.ber import Malformed
from lumtar.wire.flows import fields as element
from lumtar.wire.flows.exporters import Domain, Exporters, Header
from lumtar.wire.flows.fields import Fields, FieldSpec, Numbers, Template

NETFLOW_9, IPFIX = 9, 10
HEADER_9, HEADER_10, SET = struct.Struct(">HHIIII"), struct.Struct(">HHIII"), struct.Struct(">HH")
FIRST_DATA_SET = 256
MOST_FIELDS = 400
NTP_EPOCH = 2_208_988_800
"""Seconds from 1900 to 1970: dateTimeMicroseconds and Nanoseconds are NTP time stamps (RFC 7011 section 6.1.9)."""
SAMPLERS = (element.SAMPLER_ID, element.SELECTOR_ID)
EGRESS_FIELD = 1
TCP, SYN = 6, 0x02


@dataclass(slots=True)
class DataSets:
    """Data sets that are read with one template, from any number of datagrams: they are joined, and read at once."""

    domain: Domain
    template: Template
    is_ipfix: bool
    data: list[bytes] = field(default_factory=list)
    headers: list[Header] = field(default_factory=list)


@dataclass(slots=True)
class Pending:
    """Sets of data that have been received and not been read yet, by exporter, domain and template."""

    sets: dict[tuple[int, int], DataSets] = field(default_factory=dict)
    order: list[DataSets] = field(default_factory=list)

    def add(self, domain: Domain, template: Template, data: bytes, header: Header, *, is_ipfix: bool) -> None:
        """Put a set with those that are read alike."""
        if template.size == 0:
            return
        key = id(domain), template.number
        there = self.sets.get(key)
        if there is None or there.template is not template:
            there = self.sets[key] = DataSets(domain, template, is_ipfix)
            self.order.append(there)
        there.data.append(data)
        there.headers.append(header)


def take(data: bytes, address: str, exporters: Exporters, pending: Pending) -> None:
    """Take a datagram apart: templates are learnt, sampling is noted, sets of data wait to be read.

    Raises
    ------
    Malformed
    """
    if len(data) < HEADER_10.size:
        raise Malformed("its header is cut short")
    is_ipfix = data[1] == IPFIX
    if is_ipfix:
        _, length, sent, sequence, number = HEADER_10.unpack_from(data)
        if not HEADER_10.size <= length <= len(data):
            raise Malformed(f"it says that it has {length} octets, and has {len(data)}")
        data, header, at = data[:length], Header(float(sent)), HEADER_10.size
    else:
        if len(data) < HEADER_9.size:
            raise Malformed("its header is cut short")
        _, _, uptime, sent, sequence, number = HEADER_9.unpack_from(data)
        header, at = Header(float(sent), uptime), HEADER_9.size
    domain = exporters.domain(address, "ipfix" if is_ipfix else "netflow9", number)
    if domain is None:
        raise Malformed("there are too many observation domains")
    domain.datagrams += 1
    records, is_complete = 0, True
    try:
        for set_number, body in _sets(data, at):
            if set_number >= FIRST_DATA_SET:
                found = _data(domain, set_number, body, header, pending, is_ipfix=is_ipfix)
                records, is_complete = records + found, is_complete and found >= 0
            elif set_number == (2 if is_ipfix else 0):
                _learn(domain, body, pending, is_ipfix=is_ipfix, is_options=False)
            elif set_number == (3 if is_ipfix else 1):
                _learn(domain, body, pending, is_ipfix=is_ipfix, is_options=True)
    except Malformed:
        domain.malformed += 1
        raise
    finally:
        if not is_ipfix:
            domain.count(sequence, 1)
        elif is_complete:
            domain.count(sequence, records)
        else:
            # How many records there were is not known without their template.
            domain.next_sequence = None


def _sets(data: bytes, at: int) -> Iterator[tuple[int, bytes]]:
    while len(data) - at >= SET.size:
        number, length = SET.unpack_from(data, at)
        if length < SET.size or at + length > len(data):
            raise Malformed(f"a set says that it has {length} octets where {len(data) - at} are left")
        yield number, data[at + SET.size : at + length]
        at += length


def _data(domain: Domain, number: int, body: bytes, header: Header, pending: Pending, *, is_ipfix: bool) -> int:
    """Have a set of data read. Returns how many records it has; -1 if that is not known."""
    template = domain.templates.get(number)
    if template is None:
        domain.hold(number, body, header)
        return -1
    if template.size == 0:
        return 0
    pending.add(domain, template, body, header, is_ipfix=is_ipfix)
    return template.read([body])[1][0] if template.is_variable else len(body) // template.size


def _learn(domain: Domain, body: bytes, pending: Pending, *, is_ipfix: bool, is_options: bool) -> None:
    at = 0
    while len(body) - at >= 4:
        number, count = SET.unpack_from(body, at)
        if number < FIRST_DATA_SET:
            # What is left of the set is padding.
            if number == 0 and count == 0:
                return
            if not is_ipfix or count:
                raise Malformed(f"a template has the number {number}")
        if is_ipfix and count == 0:
            _withdraw(domain, number)
            at += 4
            continue
        scope, at = 0, at + 4
        if is_options and is_ipfix:
            if len(body) - at < 2:
                raise Malformed("a template of options is cut short")
            scope, at = int.from_bytes(body[at : at + 2], "big"), at + 2
        elif is_options:
            if len(body) - at < 2:
                raise Malformed("a template of options is cut short")
            # Version 9 tells the octets of both lists of fields.
            scope_octets, option_octets = count, int.from_bytes(body[at : at + 2], "big")
            scope, count, at = scope_octets // 4, (scope_octets + option_octets) // 4, at + 2
        if not 0 < count <= MOST_FIELDS or scope > count:
            raise Malformed(f"a template has {count} fields")
        listed, at = _fields(body, at, count, is_ipfix=is_ipfix, scope=0 if is_ipfix else scope)
        domain.learn(Template(number, tuple(listed), scope))
        for held in domain.take_held(number):
            pending.add(domain, domain.templates[number], held.data, held.header, is_ipfix=is_ipfix)


def _withdraw(domain: Domain, number: int) -> None:
    if number < FIRST_DATA_SET:
        for each in list(domain.templates):
            domain.forget(each)
    else:
        domain.forget(number)


def _fields(body: bytes, at: int, count: int, *, is_ipfix: bool, scope: int) -> tuple[list[FieldSpec], int]:
    """The fields of a template. Version 9 numbers the fields of a scope on their own: these are passed over."""
    listed = []
    for place in range(count):
        if len(body) - at < 4:
            raise Malformed("a template is cut short")
        number, length = SET.unpack_from(body, at)
        at += 4
        enterprise = 0
        if is_ipfix and number & 0x8000:
            if len(body) - at < 4:
                raise Malformed("a template is cut short")
            number, enterprise, at = number & 0x7FFF, int.from_bytes(body[at : at + 4], "big"), at + 4
        if not is_ipfix and (place < scope or length == element.VARIABLE):
            number, enterprise = 0, 1
            length = 0 if length == element.VARIABLE else length
        listed.append(FieldSpec(number, length, enterprise))
    return listed, at


def read(pending: Pending) -> list[tuple[Domain, Records, Times | None]]:
    """The records of all sets that wait, and response times where these tell any; options say how packets are sampled."""
    found = []
    for sets in pending.order:
        for records, times in _read(sets):
            if len(records):
                sets.domain.records += len(records)
                found.append((sets.domain, records, times))
    pending.sets.clear()
    pending.order.clear()
    return found


def _read(sets: DataSets) -> Sequence[tuple[Records, Times | None]]:
    template = sets.template
    told, counts = template.read(sets.data)
    if template.scope:
        _note_sampling(sets.domain, told)
        return []
    if not told.number:
        return []
    sent = np.repeat([each.sent for each in sets.headers], counts)
    uptime = np.repeat([each.uptime_ms for each in sets.headers], counts)
    first = _records(told, sets.domain, sent, uptime, sign=1)
    if (asked := told.texts(*template.texts)) is not None:
        first["server_name"] = sets.domain.names.numbers_of(asked)
    if not (told.has(-element.OCTETS) or told.has(element.RESPONDER_OCTETS)):
        return [(first, _times_told(told, template.declared))]
    times = _times_told(told, template.declared)
    return [(first, _handshakes(told, first) if times is None else times), (_reverse(told, first), None)]


def _times_told(told: Fields, declared: Sequence[Declared]) -> Times | None:
    """Response times by the fields that were declared for them; None if there are none of these."""
    found: dict[Part, Numbers] = {}
    for place, each in enumerate(declared):
        if (
            each.part is not Part.SERVER_NAME
            and each.part not in found
            and (value := told.value(element.DECLARED + place)) is not None
        ):
            found[each.part] = value * (1.0 if each.part is Part.RESPONSES else each.microseconds)
    return times_of(found, told.number) if found.keys() - {Part.RESPONSES} else None


def _handshakes(told: Fields, forward: Records) -> Times | None:
    """Of TCP that was seen from its first packet on, how long it took to the first one of the other direction.

    What is less than a unit of the exporter's clock counts as half of it.
    """
    for number, scale in ((element.START_US, 1e6 / 2**32), (element.START_NS, 1e6 / 2**32), (element.START_MS, 1e3)):
        begun, answered = told.value(number), told.value(-number)
        if begun is not None and answered is not None:
            has_begun = (forward["protocol"] == TCP) & ((forward["tcp_flags"] & SYN) > 0) & (answered >= begun)
            waited = np.where(has_begun, np.maximum(answered - begun, 0.5) * scale, 0.0)
            return times_of({Part.NETWORK: waited}, told.number)
    return None


def _note_sampling(domain: Domain, told: Fields) -> None:
    """Sampling, as options tell it: an interval (version 9), so many of so many (RFC 5477), so many packets of a space."""
    interval = told.value(element.SAMPLER_INTERVAL, element.SAMPLING_INTERVAL)
    taken, space = told.value(element.PACKET_INTERVAL), told.value(element.PACKET_SPACE)
    size, population = told.value(element.SAMPLING_SIZE), told.value(element.SAMPLING_POPULATION)
    if interval is None and taken is not None and space is not None:
        interval = (taken + space) // np.maximum(taken, np.uint64(1))
    if interval is None and size is not None and population is not None:
        interval = population // np.maximum(size, np.uint64(1))
    if interval is None:
        interval = taken
    if interval is None:
        return
    numbers = told.value(*SAMPLERS)
    for place in range(min(told.number, len(interval))):
        domain.sampled(int(numbers[place]) if numbers is not None else 0, int(interval[place]))


def _records(told: Fields, domain: Domain, sent: Numbers, uptime: Numbers, *, sign: int) -> Records:
    """Records from fields; of the reverse direction with ``sign`` -1."""
    made = empty(told.number)
    plain = (
        ("octets", (element.OCTETS, element.OCTETS_TOTAL, element.INITIATOR_OCTETS)),
        ("packets", (element.PACKETS, element.PACKETS_TOTAL, element.INITIATOR_PACKETS)),
        ("input", (element.INPUT,)), ("output", (element.OUTPUT,)), ("src_as", (element.SRC_AS,)), ("dst_as", (element.DST_AS,)),
        ("application", (element.APPLICATION_ID,)), ("src_port", (element.SRC_PORT,)), ("dst_port", (element.DST_PORT,)),
        ("protocol", (element.PROTOCOL,)), ("tos", (element.TOS,)), ("tcp_flags", (element.TCP_FLAGS,)),
    )  # fmt: skip
    for name, elements in plain:
        if (value := told.value(*(sign * each for each in elements))) is not None:
            made[name] = value.astype(made.dtype[name])
    for way, six, four in (("src", element.SRC_V6, element.SRC_V4), ("dst", element.DST_V6, element.DST_V4)):
        halves, plain_address = told.halves(six), told.value(four)
        if halves is not None:
            made[f"{way}_hi"], made[f"{way}_lo"] = halves
        if plain_address is not None:
            # A template with both families fills the one that a record is not of with zeros.
            is_four = (
                np.ones(told.number, bool) if halves is None else (plain_address != 0) | ((halves[0] | halves[1]) == 0)
            )
            made[f"{way}_hi"][is_four] = 0
            made[f"{way}_lo"][is_four] = plain_address[is_four] | np.uint64(MAPPED)
    if (direction := told.value(element.DIRECTION)) is not None:
        made["direction"] = np.where(direction == EGRESS_FIELD, 1, 0)
    made["sampling"] = _sampling(told, domain)
    made["start"], made["end"] = _times(told, sent, uptime)
    return made


def _sampling(told: Fields, domain: Domain) -> Numbers:
    """One in so many packets: as the record says, or its sampler, or what holds for all."""
    own = told.value(element.SAMPLING_INTERVAL, element.SAMPLER_INTERVAL)
    if own is not None:
        return np.minimum(own, 2**32 - 1)
    whole = domain.sampling.get(0) or (next(iter(domain.sampling.values())) if len(domain.sampling) == 1 else 0)
    found = np.full(told.number, whole, "u8")
    numbers = told.value(*SAMPLERS)
    if numbers is not None:
        for number, interval in domain.sampling.items():
            found[numbers == number] = interval
    return found


def _times(told: Fields, sent: Numbers, uptime: Numbers) -> tuple[Numbers, Numbers]:
    """Begin and end, seconds of the epoch; without any both are when the datagram was sent."""
    end = _time(
        told,
        sent,
        uptime,
        element.END_MS,
        element.END_S,
        element.END_US,
        element.END_NS,
        element.END_DELTA_US,
        element.END_UPTIME,
    )
    start = _time(
        told,
        sent,
        uptime,
        element.START_MS,
        element.START_S,
        element.START_US,
        element.START_NS,
        element.START_DELTA_US,
        element.START_UPTIME,
    )
    end = sent if end is None else end
    start = end if start is None else start
    return np.minimum(start, end), end


def _time(
    told: Fields, sent: Numbers, uptime: Numbers, milliseconds: int, seconds: int, microseconds: int, nanoseconds: int,
    delta: int, since_boot: int,
) -> Numbers | None:  # fmt: skip
    if (value := told.value(milliseconds)) is not None:
        return value / 1000.0
    if (value := told.value(seconds)) is not None:
        return value.astype("f8")
    if (value := told.value(microseconds, nanoseconds)) is not None:
        return (value >> np.uint64(32)).astype("f8") - NTP_EPOCH + (value & np.uint64(0xFFFFFFFF)) / 2.0**32
    if (value := told.value(delta)) is not None:
        return sent - value / 1e6
    if (value := told.value(since_boot)) is not None:
        since = value.astype("f8")
        booted = told.value(element.INIT_MS)
        if booted is not None:
            return booted / 1000.0 + since / 1000
        # The clock of 32 bits may have wrapped between the flow and the datagram.
        since = np.where(since > uptime + 1000.0, since - 2.0**32, since)
        return sent - uptime / 1000.0 + since / 1000
    return None


def _reverse(told: Fields, forward: Records) -> Records:
    """The other direction of bidirectional flows (RFC 5103): addresses, ports and interfaces change places."""
    made = forward.copy()
    for one, other in (
        ("src_hi", "dst_hi"),
        ("src_lo", "dst_lo"),
        ("src_port", "dst_port"),
        ("input", "output"),
        ("src_as", "dst_as"),
    ):
        made[one], made[other] = forward[other], forward[one]
    for name, elements in (
        ("octets", (-element.OCTETS, element.RESPONDER_OCTETS)),
        ("packets", (-element.PACKETS, element.RESPONDER_PACKETS)),
        ("tcp_flags", (-element.TCP_FLAGS,)),
        ("tos", (-element.TOS,)),
    ):
        value = told.value(*elements)
        made[name] = 0 if value is None else value.astype(made.dtype[name])
    return made[(made["octets"] > 0) | (made["packets"] > 0)]
