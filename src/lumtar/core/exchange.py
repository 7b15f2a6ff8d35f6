"""Readings as CSV: the columns, and what is wrong with a line."""

from collections.abc import Iterable, Mapping
from csv import DictReader
from csv import Error as CsvError
from dataclasses import dataclass
from datetime import UTC, datetime

from lumtar.core.counters import FASTEST_BPS, SLACK_OCTETS
from lumtar.core.refusal import Refusal
from lumtar.core.text import without_apostrophe

COUNTS = (
    "in_octets", "out_octets", "in_packets", "out_packets", "in_unicast", "out_unicast", "in_errors", "out_errors",
    "in_discards", "out_discards",
)  # fmt: skip
"""What was counted, in the order of the columns."""
PORT = ("device", "interface")
READING = ("at", "elapsed_ms", *COUNTS, "flags", "oper")
"""A reading: the end of what it covers, milliseconds, counts, bits of lumtar.core.counters.Flag, ifOperStatus (RFC 2863)."""
LIMITS = {**dict.fromkeys(COUNTS, 2**62), "elapsed_ms": 2**31 - 1, "flags": 2**14, "oper": 7}
MOST_PROBLEMS = 50


@dataclass(frozen=True, slots=True)
class Imported:
    """Readings that were understood: the number of the interface, the time in seconds of the epoch, and the values."""

    rows: list[tuple[int, float, tuple[int, ...]]]
    problems: list[tuple[int, str]]
    """Line numbers, the header being 1, and what is wrong there; with any of them nothing should be taken."""


def read_csv(
    lines: Iterable[str], ports: Mapping[tuple[str, str], int], oldest: datetime, newest: datetime
) -> Imported:
    """Readings from CSV (RFC 4180) with a header; columns may stand in any order, others are passed over.

    Parameters
    ----------
    ports : number of each interface by the names of its device and its own (ifName)
    oldest, newest : readings from here to there can be stored
    """
    reader = DictReader(lines)
    imported = Imported([], [])
    try:
        missing = [name for name in (*PORT, *READING) if name not in (reader.fieldnames or ())]
    except CsvError as error:
        imported.problems.append((1, f"it is no CSV: {error}"))
        return imported
    if missing:
        header = ", ".join(reader.fieldnames or ()) or "nothing"
        imported.problems.append((1, f"the header lacks {', '.join(missing)}; it reads: {header[:200]}"))
        return imported
    try:
        for line in reader:
            try:
                imported.rows.append(_reading(line, ports, oldest, newest))
            except ValueError as error:
                imported.problems.append((reader.line_num, str(error)))
                if len(imported.problems) >= MOST_PROBLEMS:
                    break
    except CsvError as error:
        imported.problems.append((reader.line_num + 1, f"it is no CSV: {error}"))
    return imported


def _reading(
    line: Mapping[str, str | None], ports: Mapping[tuple[str, str], int], oldest: datetime, newest: datetime
) -> tuple[int, float, tuple[int, ...]]:
    device, interface = (without_apostrophe(line[name] or "") for name in PORT)
    number = ports.get((device, interface))
    if number is None:
        raise Refusal(f"there is no interface {interface!r} of a device {device!r}")
    at = _moment(line["at"] or "")
    if not oldest <= at <= newest:
        raise Refusal(
            f"{at:%Y-%m-%d %H:%M} UTC cannot be stored: readings are kept from {oldest:%Y-%m-%d} on, up to now"
        )
    values = {name: _count(name, line[name]) for name in ("elapsed_ms", *COUNTS, "flags", "oper")}
    seconds = values["elapsed_ms"] / 1000
    most = FASTEST_BPS * seconds / 8 + SLACK_OCTETS
    for name in COUNTS:
        if values[name] > most:
            raise Refusal(
                f"{name} is {values[name]:,} in {seconds:,.1f} s, more than any line carries ({FASTEST_BPS / 1e12} Tb/s)"
            )
    return number, at.timestamp(), tuple(values.values())


def _moment(text: str) -> datetime:
    try:
        at = datetime.fromisoformat(text)
    except ValueError:
        raise Refusal(f"{text!r} is not a time; write 2026-11-20T12:00:00+00:00") from None
    if at.tzinfo is None:
        raise Refusal(f"{text!r} has no time zone; write +00:00 behind it for UTC")
    return at.astimezone(UTC)


def _count(name: str, text: str | None) -> int:
    try:
        value = int(text or "")
    except ValueError:
        raise Refusal(f"{name} is not a whole number: {text!r}") from None
    if not 0 <= value <= LIMITS[name]:
        raise Refusal(f"{name} must be between 0 and {LIMITS[name]:,}, not at {value:,}")
    return value
