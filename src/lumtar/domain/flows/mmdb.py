"""Tables by prefix from binary files (MMDB), as the text that tables are kept as."""

import csv
from collections.abc import Callable, Iterator, Mapping
from io import BytesIO, StringIO
from typing import Any

import maxminddb

from lumtar.core.flows.prefix_tables import MOST_ROWS, PLACES, SYSTEMS
from lumtar.core.refusal import Refusal

MARK = b"\xab\xcd\xef"
"""Begins the description of such a file, which stands within its last octets."""
DESCRIPTION_WITHIN = 128 << 10
Record = Mapping[str, Any]


def is_mmdb(data: bytes) -> bool:
    """Whether a file is one."""
    return MARK in data[-DESCRIPTION_WITHIN:]


def text_of(data: bytes, columns: tuple[str, ...]) -> str:
    """A table as CSV; prefixes of which the file does not tell what is wanted are left out.

    Raises
    ------
    Refusal
    """
    row_of = _system if columns is SYSTEMS else _place
    try:
        rows = list(_rows(data, row_of))
    except (maxminddb.InvalidDatabaseError, ValueError, IndexError, RecursionError) as error:
        raise Refusal(f"The file cannot be read as MMDB: {error}.", "file") from error
    if not rows:
        what = "autonomous systems" if columns is SYSTEMS else "places"
        raise Refusal(f"No prefix in the file tells of {what}.", "file")
    text = StringIO()
    csv.writer(text).writerows([columns, *rows])
    return text.getvalue()


def _rows(data: bytes, row_of: Callable[[Record], list[str] | None]) -> Iterator[list[str]]:
    with maxminddb.open_database(BytesIO(data), maxminddb.MODE_FD) as reader:
        number = 0
        for network, record in reader:
            row = row_of(record) if isinstance(record, Mapping) else None
            if row is None:
                continue
            number += 1
            if number > MOST_ROWS:
                raise Refusal(f"A table has at most {MOST_ROWS:,} prefixes.", "file")
            yield [str(network), *row]


def _system(record: Record) -> list[str] | None:
    number = str(_first(record, "autonomous_system_number", "asn") or "").upper().removeprefix("AS")
    if not number.isdecimal():
        return None
    return [number, str(_first(record, "autonomous_system_organization", "as_name", "name") or "")]


def _place(record: Record) -> list[str] | None:
    country = _name(_first(record, "country", "registered_country", "country_name"))
    place = _name(_first(record, "city", "city_name")) or country
    if not place:
        return None
    location = record.get("location", record)
    where = [location.get(name) for name in PLACES[3:]] if isinstance(location, Mapping) else [None, None]
    return [place, country, *("" if None in where else str(each) for each in where)]


def _first(record: Record, *names: str) -> Any:
    return next((record[name] for name in names if record.get(name)), None)


def _name(told: Any) -> str:
    """A name as text, or as one of several languages, English if there is that."""
    if not isinstance(told, Mapping):
        return str(told or "")
    names = told.get("names")
    if isinstance(names, Mapping) and names:
        return str(names.get("en") or next(iter(names.values())))
    return str(told.get("name") or told.get("iso_code") or "")
