"""Text as devices give it, made fit for people."""

import csv
import unicodedata
from collections.abc import Iterable
from io import StringIO

LONGEST = 255


def clean(raw: bytes) -> str:
    """Decode what a device calls a name: UTF-8, else Latin-1; control characters and outer blanks are dropped."""
    try:
        text = raw.decode("utf-8")
    except UnicodeDecodeError:
        text = raw.decode("latin-1")
    # Cf holds the bidirectional marks, which would let one name disguise another.
    kept = (
        " " if letter in "\t\r\n" else letter
        for letter in text
        if unicodedata.category(letter) not in ("Cc", "Cf") or letter in "\t\r\n"
    )
    return " ".join("".join(kept).split())[:LONGEST]


FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""Beginnings of a cell that a spreadsheet takes for a formula."""


def csv_line(cells: Iterable[object]) -> str:
    """One line of CSV (RFC 4180), with its end. No text in it is a formula to a spreadsheet; numbers stay as they are."""
    out = StringIO()
    csv.writer(out).writerow(harmless(cell) if isinstance(cell, str) else cell for cell in cells)
    return out.getvalue()


def harmless(cell: str) -> str:
    """A text with an apostrophe ahead if a spreadsheet would compute it: a device chooses its name, not what runs here."""
    return f"'{cell}" if cell.lstrip("'").startswith(FORMULA) else cell


def without_apostrophe(cell: str) -> str:
    """The text as it was before :func:`harmless`."""
    return cell[1:] if cell.startswith("'") and cell.lstrip("'").startswith(FORMULA) else cell


def mac_address(raw: bytes) -> str:
    """Colon-separated hexadecimal, or nothing for anything that is not six octets."""
    return raw.hex(":") if len(raw) == 6 else ""
