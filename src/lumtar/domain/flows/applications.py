"""Applications that people define, tried out on stored conversations before they are kept."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from django.db import connection, transaction

from lumtar.core.flows.addresses import AddressSet
from lumtar.core.flows.applications import STANDARD, Application, Applications, ports_of
from lumtar.core.flows.records import empty
from lumtar.core.refusal import Refusal
from lumtar.domain.flows.halves import UNSIGNED
from lumtar.domain.flows.models import OwnApplication
from lumtar.domain.flows.store import MINUTES
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce

MOST = 200
MOST_TRIED = 50_000
"""Conversations, the largest first, that a definition is tried on."""


def understood(row: OwnApplication) -> Application:
    """A definition as conversations are looked up by; one that is not kept yet has the number 0.

    Raises
    ------
    Refusal
    """
    if any(not isinstance(each, int) or not 0 <= each <= 255 for each in row.protocols):
        raise Refusal("Protocols are numbers from 0 to 255, such as 6 for TCP.", "protocols")
    if any(not isinstance(each, int) or not 0 < each < 2**32 for each in row.told):
        raise Refusal("What exporters call an application is a number of 32 bits.", "told")
    ports, addresses = ports_of(row.ports), AddressSet.of(row.addresses)
    if not (ports or len(addresses.firsts) or row.told or row.protocols):
        raise Refusal("Say by what it is known: ports, addresses, protocols, or what exporters call it.", "ports")
    return Application(row.number if row.pk else 0, row.name, tuple(row.protocols), ports, addresses, tuple(row.told))


def in_force() -> Applications:
    """Everything that conversations are looked up by."""
    return Applications((*STANDARD, *(understood(row) for row in OwnApplication.objects.order_by("pk"))))


def names() -> dict[int, str]:
    """What applications are called, by number."""
    own = {OwnApplication.FIRST_NUMBER + pk: name for pk, name in OwnApplication.objects.values_list("pk", "name")}
    return {0: "unknown"} | {each.number: each.name for each in STANDARD} | own


@transaction.atomic
def keep(row: OwnApplication, by: str) -> OwnApplication:
    """Keep a new definition, or one that was changed; it holds for flows from now on.

    Raises
    ------
    Refusal
    """
    row.name = " ".join(row.name.split())
    if not 1 <= len(row.name) <= 80:
        raise Refusal("An application needs a name of up to 80 letters.", "name")
    others = OwnApplication.objects.exclude(pk=row.pk)
    if row.name in {each.name for each in STANDARD} or others.filter(name=row.name).exists():
        raise Refusal(f"There is an application {row.name} already.", "name")
    understood(row)
    is_new = row.pk is None
    if is_new and others.count() >= MOST:
        raise Refusal(f"There are {MOST} applications already.")
    row.save()
    note_action(f"application {row.name} {'created' if is_new else 'changed'}", by)
    announce("flows")
    return row


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a definition; what is stored under it keeps its number.

    Raises
    ------
    OwnApplication.DoesNotExist
    """
    row = OwnApplication.objects.get(pk=pk)
    row.delete()
    note_action(f"application {row.name} deleted", by)
    announce("flows")


@dataclass(frozen=True, slots=True)
class Tried:
    """What a definition would have been: octets of how many conversations, of those that were looked at, and what they are called now."""

    octets: int
    conversations: int
    of_octets: int
    of_conversations: int
    now: list[tuple[int, int]]
    """Numbers of applications, and octets."""


CONVERSATIONS = f"""SELECT src_hi, src_lo, dst_hi, dst_lo, protocol, port, application, least(sum(octets), 9e18)::int8 AS octets
    FROM {MINUTES} WHERE at >= %(start)s AND at < %(end)s AND is_counted AND NOT is_rest
    GROUP BY 1, 2, 3, 4, 5, 6, 7 ORDER BY 8 DESC LIMIT {MOST_TRIED}"""


def try_out(row: OwnApplication, start: datetime, end: datetime) -> Tried:
    """What a definition would have been in a time of which there are minutes.

    Raises
    ------
    Refusal
    """
    definition = understood(row)
    with connection.cursor() as cursor:
        cursor.execute(CONVERSATIONS, {"start": start, "end": end})
        found: Sequence[Sequence[Any]] = cursor.fetchall()
    records, ports = empty(len(found)), np.zeros(len(found), "u2")
    columns = list(zip(*found, strict=True)) if found else [()] * 8
    for name, values in zip(("src_hi", "src_lo", "dst_hi", "dst_lo"), columns, strict=False):
        records[name] = np.array([value & UNSIGNED for value in values], "u8")
    records["protocol"], ports[:] = columns[4], columns[5]
    now, octets = np.array(columns[6], "i8"), np.array(columns[7], "i8")
    tried = Application(1, definition.name, definition.protocols, definition.ports, definition.addresses)
    mine = Applications((tried,)).find(records, ports) == 1
    if definition.told and not (definition.ports or len(definition.addresses.firsts)):
        # What exporters call a conversation is not part of its totals.
        mine[:] = False
    called, place = np.unique(now[mine], return_inverse=True)
    sums = np.bincount(place, octets[mine].astype("f8"), len(called)) if len(called) else np.zeros(0)
    ranked = sorted(zip(called.tolist(), sums.astype("i8").tolist(), strict=True), key=lambda each: -each[1])
    return Tried(int(octets[mine].sum()), int(mine.sum()), int(octets.sum()), len(found), ranked)
