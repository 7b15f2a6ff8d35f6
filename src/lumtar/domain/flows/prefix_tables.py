"""Tables of autonomous systems and of places, as they were loaded."""

from functools import lru_cache

from django.db import transaction
from django.utils import timezone

from lumtar.core.flows import prefix_tables
from lumtar.core.flows.lookups import PrefixRanges
from lumtar.core.flows.prefix_tables import PLACES, SYSTEMS, Place, PrefixInfo, System
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import mmdb
from lumtar.domain.flows.models import PrefixTable
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce

COLUMNS = {"systems": SYSTEMS, "places": PLACES}
TABLES = {"AS": "systems", "country": "places", "place": "places"}
FILTERS = {"AS": "system", "country": "country", "place": "place"}
"""What traffic can be put together by, by which table, and the filters that narrow it to one of them."""
LONGEST_TEXT = 60_000_000


@transaction.atomic
def load(kind: str, text: str, by: str) -> PrefixTable:
    """Take a table over, in place of the one before.

    Raises
    ------
    Refusal
    """
    if len(text) > LONGEST_TEXT:
        raise Refusal("The table is too large.", "text")
    told = prefix_tables.read(text, COLUMNS[kind])
    row, _ = PrefixTable.objects.update_or_create(
        kind=kind, defaults={"text": text, "rows": told.rows, "loaded_at": timezone.now(), "by": by}
    )
    note_action(f"table of {kind} loaded: {told.rows} prefixes", by)
    announce("flows")
    return row


def load_file(kind: str, data: bytes, by: str) -> PrefixTable:
    """Take the table of a file over: CSV in UTF-8, or MMDB.

    Raises
    ------
    Refusal
    """
    if mmdb.is_mmdb(data):
        return load(kind, mmdb.text_of(data, COLUMNS[kind]), by)
    try:
        return load(kind, data.decode(), by)
    except UnicodeDecodeError as error:
        raise Refusal("The file is neither MMDB nor text in UTF-8.", "file") from error


@transaction.atomic
def delete(kind: str, by: str) -> None:
    """Do without a table.

    Raises
    ------
    PrefixTable.DoesNotExist
    """
    PrefixTable.objects.get(kind=kind).delete()
    note_action(f"table of {kind} deleted", by)
    announce("flows")


def known(kind: str) -> PrefixInfo | None:
    """A table as it is looked up in; None if there is none."""
    loaded = PrefixTable.objects.filter(kind=kind).values_list("loaded_at", flat=True).first()
    return _understood(kind, loaded.isoformat()) if loaded else None


@lru_cache(maxsize=4)
def _understood(kind: str, loaded_at: str) -> PrefixInfo:
    """Understood once for each time that it was loaded: a large table takes seconds."""
    del loaded_at
    return prefix_tables.read(PrefixTable.objects.get(kind=kind).text, COLUMNS[kind])


def table_of(by: str) -> PrefixInfo:
    """The table by which traffic is put together by something.

    Raises
    ------
    Refusal
        if there is none
    """
    found = known(TABLES[by])
    if found is None:
        what = "autonomous systems" if TABLES[by] == "systems" else "places"
        raise Refusal(f"There is no table of {what} yet: an engineer can load one under Setup, Traffic.", "by")
    return found


def key_of(by: str, entry: System | Place) -> str:
    """What an entry has in common with others that are put together with it."""
    if isinstance(entry, System):
        return str(entry.number)
    return entry.country if by == "country" else entry.name


def ranges(by: str, value: str) -> PrefixRanges:
    """Where an autonomous system (by its number), a country or a place is.

    Raises
    ------
    Refusal
    """
    table = table_of(by)
    return table.prefixes.ranges([place for place, entry in enumerate(table.entries, 1) if key_of(by, entry) == value])
