"""Information elements (IANA's registry for IPFIX, RFC 7012; versions 5 and 9 use the same numbers up to 127), and how they are read.

A template becomes a numpy type whose fields lie where the template puts them, so that all records of a set are read at once. Fields of
unusual lengths (RFC 7011 section 6.2, reduced-size encoding) are put together octet by octet.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.declared import Declared, Part
from lumtar.core.flows.server_names import MOST_OCTETS

VARIABLE = 0xFFFF
"""The length of a field whose length stands in each record (RFC 7011 section 7)."""
REVERSE = 29305
"""The enterprise number of the reverse direction of a bidirectional flow (RFC 5103 section 6.1)."""
OCTETS, PACKETS, PROTOCOL, TOS, TCP_FLAGS, SRC_PORT, SRC_V4, INPUT = 1, 2, 4, 5, 6, 7, 8, 10
DST_PORT, DST_V4, OUTPUT, SRC_AS, DST_AS, END_UPTIME, START_UPTIME = 11, 12, 14, 16, 17, 21, 22
SRC_V6, DST_V6, SAMPLING_INTERVAL, SAMPLER_ID, SAMPLER_INTERVAL, DIRECTION = 27, 28, 34, 48, 50, 61
OCTETS_TOTAL, PACKETS_TOTAL, APPLICATION_ID, APPLICATION_NAME = 85, 86, 95, 96
START_S, END_S, START_MS, END_MS, START_US, END_US, START_NS, END_NS = 150, 151, 152, 153, 154, 155, 156, 157
START_DELTA_US, END_DELTA_US, INIT_MS = 158, 159, 160
SELECTOR_ID, PACKET_INTERVAL, PACKET_SPACE, SAMPLING_SIZE, SAMPLING_POPULATION = 302, 305, 306, 309, 310
INITIATOR_OCTETS, RESPONDER_OCTETS, INITIATOR_PACKETS, RESPONDER_PACKETS = 231, 232, 298, 299
HTTP_REQUEST_HOST = 460
WANTED = frozenset(
    (
        OCTETS, PACKETS, PROTOCOL, TOS, TCP_FLAGS, SRC_PORT, SRC_V4, INPUT, DST_PORT, DST_V4, OUTPUT, SRC_AS, DST_AS, END_UPTIME,
        START_UPTIME, SRC_V6, DST_V6, SAMPLING_INTERVAL, SAMPLER_ID, SAMPLER_INTERVAL, DIRECTION, OCTETS_TOTAL, PACKETS_TOTAL,
        APPLICATION_ID, START_S, END_S, START_MS, END_MS, START_US, END_US, START_NS, END_NS, START_DELTA_US, END_DELTA_US, INIT_MS,
        SELECTOR_ID, PACKET_INTERVAL, PACKET_SPACE, SAMPLING_SIZE, SAMPLING_POPULATION, INITIATOR_OCTETS, RESPONDER_OCTETS,
        INITIATOR_PACKETS, RESPONDER_PACKETS, HTTP_REQUEST_HOST,
    )
)  # fmt: skip
"""Elements that are read; others are passed over."""
DECLARED = 1 << 16
"""Declared fields are found by numbers from here on, beyond those of all elements."""
PLAIN = {1: "u1", 2: ">u2", 4: ">u4", 8: ">u8", 16: "(2,)>u8"}
"""Lengths that numpy reads by itself."""
Numbers = NDArray[Any]


@dataclass(frozen=True, slots=True)
class FieldSpec:
    """A field of a template: its element, the octets that it takes, and the enterprise that defines it (0 is IANA)."""

    element: int
    length: int
    enterprise: int = 0

    @property
    def key(self) -> int:
        """By what a standard field is found in a record: the element, those of the reverse direction below zero, 0 for anything else."""
        if self.enterprise == 0:
            return self.element if self.element in WANTED else 0
        return -self.element if self.enterprise == REVERSE and self.element in WANTED else 0


@dataclass(frozen=True)
class Template:
    """A template: its fields in their order.

    Attributes
    ----------
    scope : how many of the fields are the scope of an options template
    declared : fields that are read though no standard defines them; the first is found in a record by DECLARED, and so on
    """

    number: int
    fields: Sequence[FieldSpec]
    scope: int = 0
    declared: Sequence[Declared] = field(default=(), compare=False)

    @cached_property
    def keys(self) -> Sequence[int]:
        """By what each field is found in a record; 0 for one that is passed over."""
        declared = {(each.enterprise, each.element): DECLARED + n for n, each in enumerate(self.declared)}
        return [each.key or declared.get((each.enterprise, each.element), 0) for each in self.fields]

    @cached_property
    def texts(self) -> list[int]:
        """By what the fields that are texts are found in a record."""
        named = {DECLARED + n for n, each in enumerate(self.declared) if each.part is Part.SERVER_NAME}
        return [key for key in self.keys if key in named or key == HTTP_REQUEST_HOST]

    @cached_property
    def is_variable(self) -> bool:
        """Whether records differ in length."""
        return any(each.length == VARIABLE for each in self.fields)

    @cached_property
    def size(self) -> int:
        """Octets of a record; of variable ones the least."""
        return sum(1 if each.length == VARIABLE else each.length for each in self.fields)

    @cached_property
    def dtype(self) -> np.dtype[np.void]:
        """The fields that are read, where they lie in a record."""
        names, formats, offsets, at = [], [], [], 0
        for spec, key in zip(self.fields, self.keys, strict=True):
            if str(key) in names:
                pass
            elif key in self.texts and spec.length:
                names.append(str(key))
                formats.append(f"S{min(spec.length, MOST_OCTETS)}")
                offsets.append(at)
            elif key and 0 < spec.length <= 16:
                names.append(str(key))
                formats.append(PLAIN.get(spec.length, f"({spec.length},)u1"))
                offsets.append(at)
            at += spec.length
        return np.dtype({"names": names, "formats": formats, "offsets": offsets, "itemsize": at})

    def read(self, sets: Sequence[bytes]) -> tuple["Fields", list[int]]:
        """All records of some sets, and how many each set has. What is left at the end of a set is padding."""
        if self.is_variable:
            return self._read_variable(sets)
        numbers = [len(each) // self.size if self.size else 0 for each in sets]
        joined = b"".join(each[: number * self.size] for each, number in zip(sets, numbers, strict=True))
        rows = np.frombuffer(joined, self.dtype) if self.size else np.zeros(0, self.dtype)
        return Fields(len(rows), {int(name): rows[name] for name in self.dtype.names or ()}), numbers

    def _read_variable(self, sets: Sequence[bytes]) -> tuple["Fields", list[int]]:
        """Records of different lengths, one after another."""
        found: dict[int, list[bytes]] = {key: [] for key in self.keys if key}
        numbers = []
        for data in sets:
            at, number = 0, 0
            while len(data) - at >= self.size:
                values, following = self._one(data, at)
                if values is None:
                    break
                for key, value in values.items():
                    found[key].append(value)
                at, number = following, number + 1
            numbers.append(number)
        columns = {
            key: np.array(values, f"S{MOST_OCTETS}") if key in self.texts else _padded(values)
            for key, values in found.items()
        }
        return Fields(sum(numbers), columns), numbers

    def _one(self, data: bytes, at: int) -> tuple[dict[int, bytes] | None, int]:
        values: dict[int, bytes] = {}
        for spec, key in zip(self.fields, self.keys, strict=True):
            length = spec.length
            if length == VARIABLE:
                if at >= len(data):
                    return None, at
                length, at = data[at], at + 1
                if length == 255:
                    if at + 2 > len(data):
                        return None, at
                    length, at = int.from_bytes(data[at : at + 2], "big"), at + 2
            if at + length > len(data):
                return None, at
            if key:
                values.setdefault(key, data[at : at + length])
            at += length
        return values, at


def _padded(values: Sequence[bytes]) -> Numbers:
    """Octets of different lengths as two numbers, of longer ones the last sixteen octets."""
    joined = b"".join(value[-16:].rjust(16, b"\0") for value in values)
    return np.frombuffer(joined, ">u8").reshape(len(values), 2)


@dataclass(frozen=True, slots=True)
class Fields:
    """The fields of many records by element: numbers, pairs of them (16 octets), or octets of unusual lengths."""

    number: int
    columns: dict[int, Numbers]

    def has(self, element: int) -> bool:
        """Whether records have a field."""
        return element in self.columns

    def value(self, *elements: int) -> Numbers | None:
        """An unsigned number of each record, of the first of some elements that there is."""
        for element in elements:
            if (column := self.columns.get(element)) is None or column.dtype.kind == "S":
                continue
            if column.ndim == 1:
                return column.astype("u8")
            if column.dtype.itemsize == 8:
                return column[:, 1].astype("u8")
            wide = np.zeros((len(column), 8), "u1")
            width = min(8, column.shape[1])
            wide[:, 8 - width :] = column[:, -width:]
            return wide.view(">u8")[:, 0].astype("u8")
        return None

    def texts(self, *elements: int) -> NDArray[np.bytes_] | None:
        """A text of each record, of the first of some elements that there is."""
        found = (self.columns[each] for each in elements if each in self.columns)
        return next((column for column in found if column.dtype.kind == "S"), None)

    def halves(self, element: int) -> tuple[Numbers, Numbers] | None:
        """An address of version 6 of each record, as two numbers."""
        column = self.columns.get(element)
        if column is None or column.ndim != 2 or column.dtype.itemsize != 8:
            return None
        return column[:, 0].astype("u8"), column[:, 1].astype("u8")
