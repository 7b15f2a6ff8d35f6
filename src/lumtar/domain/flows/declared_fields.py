"""Fields of flow records that no standard element carries, such as response times: what they tell is declared by people."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from django.db import transaction

from lumtar.core.flows.declared import MICROSECONDS, Declared, Part
from lumtar.core.refusal import Refusal
from lumtar.domain.flows.models import DeclaredField, Exporter
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.wire.flows.fields import REVERSE

MOST = 50
MOST_UNKNOWN = 200
FIRST_OWN = 32768
"""Elements of version 9 from here on are the makers' own; version 9 has no enterprises."""


def in_force() -> Sequence[Declared]:
    """The fields that are read."""
    rows = DeclaredField.objects.order_by("pk")
    return tuple(Declared(row.enterprise, row.element, Part(row.part), MICROSECONDS[row.unit]) for row in rows)


@transaction.atomic
def keep(row: DeclaredField, by: str) -> DeclaredField:
    """Declare a field, or change what was declared of it; it holds for records from now on.

    Raises
    ------
    Refusal
    """
    if not 0 <= row.enterprise < 2**32 or row.enterprise == REVERSE:
        raise Refusal(
            "An enterprise is a number of 32 bits (0 is IANA, and all of NetFlow 9), and not that of reverse fields.",
            "enterprise",
        )
    if not 0 < row.element < (65536 if row.enterprise == 0 else 32768):
        raise Refusal(
            "An element is a number from 1 to 32767; of NetFlow 9, without an enterprise, to 65535.", "element"
        )
    if row.part not in list(Part):
        raise Refusal(f"A field tells one of {', '.join(Part)}.", "part")
    if row.unit not in MICROSECONDS:
        raise Refusal(f"The unit is one of {', '.join(MICROSECONDS)}.", "unit")
    others = DeclaredField.objects.exclude(pk=row.pk)
    if others.filter(enterprise=row.enterprise, element=row.element).exists():
        raise Refusal(f"What {row} tells is declared already.", "element")
    is_new = row.pk is None
    if is_new and others.count() >= MOST:
        raise Refusal(f"There are {MOST} fields already.")
    row.save()
    note_action(f"{row} {'declared' if is_new else 'changed'}: {row.part}", by)
    announce("flows")
    return row


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Read a field no longer.

    Raises
    ------
    DeclaredField.DoesNotExist
    """
    row = DeclaredField.objects.get(pk=pk)
    row.delete()
    note_action(f"{row} is not read any more", by)
    announce("flows")


@dataclass(frozen=True, slots=True)
class Unknown:
    """A field that exporters send though nothing is known of it: octets that it takes (0: they differ), and who sends it."""

    enterprise: int
    element: int
    length: int
    exporters: list[str]


def unknown() -> list[Unknown]:
    """Fields of makers in templates of exporters, to choose from."""
    known = set(DeclaredField.objects.values_list("enterprise", "element"))
    senders: defaultdict[tuple[int, int, int], set[str]] = defaultdict(set)
    for row in Exporter.objects.select_related("device").order_by("pk"):
        for _, _, fields in row.templates:
            for element, length, enterprise in fields:
                is_own = (enterprise > 0 and enterprise != REVERSE) or (enterprise == 0 and element >= FIRST_OWN)
                if is_own and (enterprise, element) not in known:
                    size = 0 if length == 65535 else length
                    senders[enterprise, element, size].add(str(row.device or row.address))
    return [Unknown(*key, sorted(names)) for key, names in sorted(senders.items())[:MOST_UNKNOWN]]
