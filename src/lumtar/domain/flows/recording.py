"""Records one by one: who wants them kept, and the records themselves."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection, transaction
from django.db.models import Q
from django.utils import timezone
from numpy.typing import NDArray

from lumtar.core.flows.records import Records
from lumtar.core.flows.server_names import MOST_OCTETS
from lumtar.core.refusal import Refusal
from lumtar.domain.flows.asking import IN, OUT, Asked, narrowed, ports_of_group
from lumtar.domain.flows.models import Recording, RecordLook
from lumtar.domain.flows.store import RECORDS
from lumtar.domain.inventory.models import Device
from lumtar.domain.logbook.services import note_action
from lumtar.domain.readings import bulk

LASTS = timedelta(seconds=15)
"""A screen that does not ask again in this time looks no longer."""
LONGEST = timedelta(days=7)
MOST_RECORDINGS = 50
MOST_ROWS = 10_000
STORED = np.dtype(
    [
        ("at", "f8"), ("start", "f8"), ("end", "f8"), ("src_hi", "u8"), ("src_lo", "u8"), ("dst_hi", "u8"), ("dst_lo", "u8"),
        ("octets", "u8"), ("packets", "u8"), ("device_id", "i8"), ("in_id", "i8"), ("out_id", "i8"), ("input", "i8"), ("output", "i8"),
        ("src_as", "i8"), ("dst_as", "i8"), ("sampling", "i8"), ("application_id", "i8"), ("application", "i4"), ("src_site", "i4"),
        ("dst_site", "i4"), ("src_port", "i4"), ("dst_port", "i4"), ("port", "i4"), ("protocol", "i2"), ("dscp", "i2"), ("ecn", "i2"),
        ("tcp_flags", "i2"), ("direction", "i2"), ("server_name", f"S{MOST_OCTETS}"),
    ]
)  # fmt: skip
"""A row of the table; times are seconds of the epoch."""
TIMES = ("at", "start", "end")
SAME = (
    "start", "end", "src_hi", "src_lo", "dst_hi", "dst_lo", "octets", "packets", "input", "output", "src_as", "dst_as", "sampling",
    "src_port", "dst_port", "protocol", "tcp_flags", "direction",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Wanted:
    """Whose records are kept: of all exporters, or of some devices."""

    everybody: bool = False
    devices: frozenset[int] = field(default_factory=frozenset)

    def __contains__(self, device: int) -> bool:
        return self.everybody or device in self.devices


def wanted(now: datetime | None = None) -> Wanted:
    """Whose records are kept now."""
    is_on = Q(until__gt=now or timezone.now())
    devices = [
        each
        for kind in (Recording, RecordLook)
        for each in kind.objects.filter(is_on).values_list("device_id", flat=True)
    ]
    return Wanted(None in devices, frozenset(each for each in devices if each is not None))


def look(device: int | None, by: str) -> datetime:
    """A screen asks for records as they come. Returns until when they are kept if it does not ask again."""
    until = timezone.now() + LASTS
    RecordLook.objects.update_or_create(by=by, defaults={"device_id": device, "until": until})
    return until


@transaction.atomic
def begin(device: Device | None, length: timedelta, by: str) -> Recording:
    """Keep records from now on.

    Raises
    ------
    Refusal
    """
    if not timedelta(minutes=1) <= length <= LONGEST:
        raise Refusal("Records are kept for a minute to seven days from now.", "hours")
    now = timezone.now()
    Recording.objects.filter(until__lt=now).delete()
    if Recording.objects.count() >= MOST_RECORDINGS:
        raise Refusal(f"There are {MOST_RECORDINGS} recordings already; end one of them first.")
    made = Recording.objects.create(device=device, by=by, since=now, until=now + length)
    note_action(f"records of {device or 'all exporters'} are kept until {made.until:%Y-%m-%d %H:%M} UTC", by, device)
    return made


@transaction.atomic
def end(pk: int, by: str) -> None:
    """Keep no more records; what was kept stays.

    Raises
    ------
    Recording.DoesNotExist
    """
    recording = Recording.objects.select_for_update().get(pk=pk)
    note_action(f"records of {recording.device or 'all exporters'} are kept no longer", by, recording.device)
    recording.delete()


def running() -> list[Recording]:
    """Recordings that go on."""
    rows = Recording.objects.filter(until__gt=timezone.now())
    return list(rows.select_related("device").order_by("until"))


def stored_as(device: int, records: Records, at: float, more: Mapping[str, NDArray[Any]]) -> NDArray[np.void]:
    """Records as rows of the table; ``more`` has the columns that are worked out, by name."""
    made = np.zeros(len(records), STORED)
    for name in SAME:
        made[name] = records[name]
    made["at"], made["device_id"] = at, device
    made["application_id"], made["dscp"], made["ecn"] = records["application"], records["tos"] >> 2, records["tos"] & 3
    for name, values in more.items():
        made[name] = values
    return made


def append(rows: NDArray[np.void]) -> None:
    """Append rows to the table."""
    columns: list[bulk.Column] = []
    for name in STORED.names or ():
        code = STORED[name].str[1:]
        values = rows[name]
        if code == "u8":
            # PostgreSQL's numbers have a sign: those of addresses are kept bit by bit, no count is that large.
            is_count = name in ("octets", "packets")
            code, values = (
                "i8",
                np.minimum(values, 2**63 - 1).astype("i8") if is_count else values.astype("u8").view("i8"),
            )
        columns.append((f'"{name}"', "at" if name in TIMES else code, values))
    bulk.copy(RECORDS.name, columns)


def _scope(asked: Asked, values: dict[str, Any]) -> list[str]:
    if asked.interface is not None:
        values["interface"] = asked.interface
        sides = {IN: "in_id", OUT: "out_id"}
        chosen = [sides[asked.way]] if asked.way is not None else list(sides.values())
        return [f"({' OR '.join(f'{name} = %(interface)s' for name in chosen)})"]
    if asked.device is not None:
        values["device"] = asked.device
        return ["device_id = %(device)s"]
    if asked.group is not None:
        return [f"in_id IN (SELECT id FROM ({ports_of_group(asked.group, values)}) g)"]
    if asked.site is not None:
        values["site"] = asked.site
        return ["(src_site = %(site)s OR dst_site = %(site)s)"]
    return []


def read(asked: Asked, start: datetime, end: datetime, limit: int = 500) -> tuple[list[dict[str, Any]], int]:
    """The newest records that came in a time, newest first, and how many there are in all.

    Raises
    ------
    Refusal
    """
    values: dict[str, Any] = {"start": start, "end": end, "limit": max(1, min(limit, MOST_ROWS))}
    where = ["at > %(start)s", "at <= %(end)s", *narrowed(asked, values), *_scope(asked, values)]
    names = list(STORED.names or ())
    with connection.cursor() as cursor:
        cursor.execute(
            f"""SELECT {", ".join(f'"{name}"' for name in names)}, count(*) OVER () FROM {RECORDS}
            WHERE {" AND ".join(where)} ORDER BY at DESC, octets DESC LIMIT %(limit)s""",
            values,
        )
        found = cursor.fetchall()
    return [dict(zip(names, row, strict=False)) for row in found], int(found[0][-1]) if found else 0
