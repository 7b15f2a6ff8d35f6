"""Lists of devices as people paste them: plain addresses, or CSV with a header. Every line keeps its own problem."""

import csv
import ipaddress
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from lumtar.core.refusal import Refusal
from lumtar.core.text import csv_line, without_apostrophe

COLUMNS = ("address", "port", "name", "site", "groups", "tags", "credential", "interval", "way")
ALSO = {"group": "groups", "tag": "tags", "ip": "address", "host": "address", "interval_s": "interval"}
"""Other words for columns, as they stand in people's tables."""
DELIMITERS = ",;\t|"
LONGEST_LINE = 100_000
MOST_LINES = 5000
WAYS = ("snmp", "icmp", "tcp")
_HOST = re.compile(r"(?!-)[A-Za-z0-9_-]{1,63}(?<!-)(\.(?!-)[A-Za-z0-9_-]{1,63}(?<!-))*\.?")


@dataclass(slots=True)
class Line:
    """One device of a list. ``problem`` is empty if it can be tried; ``number`` counts the list's lines from 1."""

    number: int
    address: str = ""
    port: int = 161
    name: str = ""
    site: str = ""
    groups: list[str] = field(default_factory=list)
    tags: dict[str, str] = field(default_factory=dict)
    credential: str = ""
    interval: int = 60
    way: str = "snmp"
    own: dict[str, str] = field(default_factory=dict)
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Listed:
    """A list as it was understood. ``columns`` is empty for plain addresses, ``problem`` concerns the whole of it."""

    lines: list[Line]
    columns: list[str]
    problem: str = ""


def decoded(raw: bytes) -> str:
    """The text of a file: UTF-8 with or without a byte-order mark, UTF-16 with one, else Latin-1."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        return raw.decode("utf-16", "replace")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def check_address(text: str) -> str:
    """A name, an IPv4 or an IPv6 address, without blanks and brackets; IPv6 in its shortest form (RFC 5952).

    Raises
    ------
    Refusal
        with a sentence for the person who entered it
    """
    address = text.strip()
    if address.startswith("[") and address.endswith("]"):
        address = address[1:-1]
    if not address:
        raise Refusal("There is no address.")
    if ":" in address:
        bare, _, zone = address.partition("%")
        try:
            return ipaddress.IPv6Address(bare).compressed + (f"%{zone}" if zone else "")
        except ValueError as error:
            raise Refusal(f"{address} is not an IPv6 address.") from error
    if re.fullmatch(r"[\d.]+", address):
        try:
            return str(ipaddress.IPv4Address(address))
        except ValueError as error:
            raise Refusal(f"{address} is not an IPv4 address.") from error
    if "/" in address:
        raise Refusal(f"{address} is a range, not one address.")
    if len(address) > 253 or not _HOST.fullmatch(address):
        raise Refusal("An address is a name, an IPv4 or an IPv6 address, without blanks.")
    return address


def check_port(port: int) -> int:
    """A UDP or TCP port.

    Raises
    ------
    Refusal
    """
    if not 1 <= port <= 65535:
        raise Refusal("A port must be between 1 and 65535.")
    return port


def check_interval(seconds: int) -> int:
    """An interval between polls, in seconds.

    Raises
    ------
    Refusal
    """
    if not 10 <= seconds <= 86400:
        raise Refusal("The interval must be between 10 seconds and a day.")
    return seconds


def check_tags(text: str) -> dict[str, str]:
    """Tags from ``key=value; key=value``.

    Raises
    ------
    Refusal
    """
    tags_read = {}
    for part in (part.strip() for part in text.split(";")):
        if not part:
            continue
        key, sign, value = (piece.strip() for piece in part.partition("="))
        if not (key and sign and value):
            raise Refusal(f"A tag is written key=value; {part!r} is not.")
        if len(key) > 60 or len(value) > 200:
            raise Refusal(f"The tag {key[:20]!r} is longer than 60 and 200 characters.")
        tags_read[key] = value
    return tags_read


def read_list(text: str, own_fields: Iterable[str] = (), known: Mapping[str, Iterable[str]] | None = None) -> Listed:
    """Understand a pasted list.

    Parameters
    ----------
    own_fields : further columns that may occur
    known : the names that exist, for ``credential``; any other name is a problem of its line
    """
    rows = [(number, row) for number, row in enumerate(text.splitlines(), 1) if row.strip()]
    if not rows:
        return Listed([], [], "There is nothing in it yet.")
    if len(rows) > MOST_LINES + 1:
        return Listed([], [], f"These are {len(rows):,} lines; at most {MOST_LINES:,} are taken at once.")
    own = {name.casefold(): name for name in own_fields}
    first = rows[0][1]
    delimiter = max(DELIMITERS, key=first.count)
    if len(max((row for _, row in rows), key=len)) > LONGEST_LINE:
        return Listed([], [], f"A line is longer than {LONGEST_LINE:,} characters; that is no list of devices.")
    columns, problem = _header(next(csv.reader([first], delimiter=delimiter), []), own)
    if problem:
        return Listed([], [], problem)
    if not columns:
        listed = [
            _plain(number, part)
            for number, row in rows
            for part in re.split(r"[,;\s]+", row.partition("#")[0].strip())
            if part
        ]
        return _without_doubles(Listed(listed, []))
    lines = []
    for number, row in rows[1:]:
        if not row.startswith("#"):
            cells = [without_apostrophe(cell) for cell in next(csv.reader([row], delimiter=delimiter))]
            lines.append(_line(number, cells, columns, known or {}))
    return _without_doubles(Listed(lines, columns))


def _header(cells: list[str], own: Mapping[str, str]) -> tuple[list[str], str]:
    """Columns by their known names; none if this is no header."""
    words = [without_apostrophe(cell).strip().casefold() for cell in cells]
    names = [ALSO.get(word, word) for word in words]
    if "address" not in names:
        if len(set(names) & set(COLUMNS)) >= 2:
            return [], "The header has no column called address."
        return [], ""
    columns = []
    for name, cell in zip(names, cells, strict=True):
        if name in COLUMNS:
            columns.append(name)
        elif name in own:
            columns.append(f"own:{own[name]}")
        else:
            known = ", ".join([*COLUMNS, *own.values()])
            return [], f"There is no column {cell.strip()!r}; there are {known}. Make it an own field first."
    if twice := next((name for name in columns if columns.count(name) > 1), ""):
        return [], f"The column {twice.removeprefix('own:')} stands there twice."
    return columns, ""


def _plain(number: int, text: str) -> Line:
    line = Line(number, address=text)
    try:
        line.address = check_address(text)
    except ValueError as error:
        line.problem = str(error)
    return line


def _line(number: int, cells: list[str], columns: list[str], known: Mapping[str, Iterable[str]]) -> Line:
    line = Line(number)
    if len(cells) > len(columns):
        line.problem = f"It has {len(cells)} columns, the header has {len(columns)}."
        line.address = cells[0].strip()
        return line
    problems = []
    for column, cell in zip(columns, (cell.strip() for cell in cells), strict=False):
        if not cell and column != "address":
            continue
        try:
            _take(line, column, cell)
        except ValueError as error:
            problems.append(str(error))
    if line.credential and line.credential not in known.get("credential", ()):
        problems.append(f"There is no credential called {line.credential!r}.")
    if not line.address and not problems:
        problems.append("There is no address.")
    line.problem = " ".join(problems)
    return line


def _take(line: Line, column: str, cell: str) -> None:
    if column == "address":
        line.address = cell
        line.address = check_address(cell)
    elif column == "port":
        line.port = check_port(_number(cell, "A port"))
    elif column == "interval":
        line.interval = check_interval(_number(cell.removesuffix("s").strip(), "An interval"))
    elif column == "groups":
        line.groups = [part.strip() for part in cell.split(";") if part.strip()]
    elif column == "tags":
        line.tags = check_tags(cell)
    elif column == "way":
        if cell.casefold() not in WAYS:
            raise Refusal(f"A device is watched by {', '.join(WAYS[:-1])} or {WAYS[-1]}, not {cell!r}.")
        line.way = cell.casefold()
    elif column.startswith("own:"):
        line.own[column[4:]] = cell
    else:
        longest = 120 if column == "name" else 80
        if len(cell) > longest:
            raise Refusal(f"The {column} is longer than {longest} characters.")
        setattr(line, column, cell)


def _number(text: str, what: str) -> int:
    if not re.fullmatch(r"\d{1,7}", text):
        raise Refusal(f"{what} is a number, not {text[:20]!r}.")
    return int(text)


def _without_doubles(listed: Listed) -> Listed:
    """Mark the second of two lines for one place."""
    seen: dict[tuple[str, int, str], int] = {}
    for line in listed.lines:
        place = (line.address.casefold(), line.port, line.way)
        if line.address and place in seen and not line.problem:
            line.problem = f"The same address and port stand in line {seen[place]} already."
        seen.setdefault(place, line.number)
    return listed


def written(lines: Iterable[Line], own_fields: Iterable[str] = ()) -> Iterable[str]:
    """The list as CSV, one piece of text a line; :func:`read_list` reads it back."""
    own = list(own_fields)
    yield csv_line([*COLUMNS, *own])
    for line in lines:
        tags = "; ".join(f"{key}={value}" for key, value in line.tags.items())
        cells = [
            line.address, line.port, line.name, line.site, "; ".join(line.groups), tags, line.credential,
            line.interval, line.way,
        ]  # fmt: skip
        yield csv_line([*cells, *(line.own.get(name, "") for name in own)])
