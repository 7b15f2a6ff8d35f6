"""Applications that people define, tried out on stored conversations before they are kept."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from django.db import connection, transaction

from lumtar.core.flows.addresses import AddressSet
from lumtar.core.flows.applications import STANDARD, Application, Applications, ports_of
from lumtar.core.flows.records import empty
from lumtar.core.flows.server_names import MOST_OCTETS, ServerNames, names_of
from lumtar.core.refusal import Refusal
from lumtar.domain.flows.halves import UNSIGNED
from lumtar.domain.flows.models import OwnApplication
from lumtar.domain.flows.store import MINUTES, RECORDS
from lumtar.domain.logbook.named import keep_named
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
    ports, addresses, names = ports_of(row.ports), AddressSet.of(row.addresses), names_of(row.server_names)
    if not (ports or len(addresses.firsts) or row.told or row.protocols or names):
        raise Refusal(
            "Say by what it is known: ports, addresses, protocols, what exporters call it, or names of servers.",
            "ports",
        )
    number = row.number if row.pk else 0
    return Application(number, row.name, tuple(row.protocols), ports, addresses, tuple(row.told), names)


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
    if " ".join(row.name.split()) in {each.name for each in STANDARD}:
        raise Refusal(f"There is an application {row.name} already.", "name")
    understood(row)
    return keep_named(row, "application", by, "flows", longest=80, most=MOST)


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


CONVERSATIONS = f"""SELECT src_hi, src_lo, dst_hi, dst_lo, protocol, port, application, least(sum(octets), 9e18)::int8 AS octets,
    0 AS told, '' AS server_name
    FROM {MINUTES} WHERE at >= %(start)s AND at < %(end)s AND is_counted AND NOT is_rest
    GROUP BY 1, 2, 3, 4, 5, 6, 7 ORDER BY 8 DESC LIMIT {MOST_TRIED}"""
# What exporters call an application, and names of servers, are in records alone.
OF_RECORDS = f"""SELECT src_hi, src_lo, dst_hi, dst_lo, protocol, port, application,
    least(sum(octets::numeric * greatest(sampling, 1)), 9e18)::int8 AS octets, application_id AS told,
    coalesce(server_name::text, '') AS server_name
    FROM {RECORDS} WHERE at >= %(start)s AND at < %(end)s
    GROUP BY 1, 2, 3, 4, 5, 6, 7, 9, 10 ORDER BY 8 DESC LIMIT {MOST_TRIED}"""


def try_out(row: OwnApplication, start: datetime, end: datetime) -> Tried:
    """What a definition would have been in a time of which there are minutes.

    Raises
    ------
    Refusal
    """
    definition = understood(row)
    needs_records = bool(definition.told or definition.server_names)
    with connection.cursor() as cursor:
        cursor.execute(OF_RECORDS if needs_records else CONVERSATIONS, {"start": start, "end": end})
        found: Sequence[Sequence[Any]] = cursor.fetchall()
    if needs_records and not found:
        raise Refusal(
            "What exporters call an application, and names of servers, are in records alone, and no records of this time were kept: "
            "have them kept for a while under Traffic, records, and try again."
        )
    records, ports, names = empty(len(found)), np.zeros(len(found), "u2"), ServerNames()
    columns = list(zip(*found, strict=True)) if found else [()] * 10
    for name, values in zip(("src_hi", "src_lo", "dst_hi", "dst_lo"), columns, strict=False):
        records[name] = np.array([value & UNSIGNED for value in values], "u8")
    records["protocol"], ports[:], records["application"] = columns[4], columns[5], columns[8]
    records["server_name"] = names.numbers_of(np.array([each.encode() for each in columns[9]], f"S{MOST_OCTETS}"))
    now, octets = np.array(columns[6], "i8"), np.array(columns[7], "i8")
    mine = Applications((replace(definition, number=1),)).find(records, ports, names) == 1
    called, place = np.unique(now[mine], return_inverse=True)
    sums = np.bincount(place, octets[mine].astype("f8"), len(called)) if len(called) else np.zeros(0)
    ranked = sorted(zip(called.tolist(), sums.astype("i8").tolist(), strict=True), key=lambda each: -each[1])
    return Tried(int(octets[mine].sum()), int(mine.sum()), int(octets.sum()), len(found), ranked)
