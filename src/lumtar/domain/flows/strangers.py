"""Lists of known addresses, and whoever is seen that is not on them."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from lumtar.core.flows.addresses import AddressSet, KnownAddresses, keys_of
from lumtar.core.flows.records import address_numbers
from lumtar.core.refusal import Refusal
from lumtar.domain.flows.halves import UNSIGNED, signed
from lumtar.domain.flows.models import AddressList, Stranger
from lumtar.domain.inventory.models import Interface
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce

MOST_LISTS = 100
LONGEST_TEXT = 200_000
MOST_ACCEPTED = 5_000
"""Addresses that are accepted in one step."""


@dataclass(frozen=True, slots=True)
class Sighting:
    """A stranger to a list, seen at an interface with somebody."""

    known: int
    hi: int
    lo: int
    at: float
    interface: int
    peer: tuple[int, int]
    port: int
    protocol: int
    octets: int


def in_force() -> dict[int, KnownAddresses]:
    """The lists that are looked at, by number."""
    rows = AddressList.objects.filter(enabled=True)
    return {row.pk: KnownAddresses(AddressSet.of(row.within), AddressSet.of(row.listed), row.is_deny) for row in rows}


@transaction.atomic
def keep_list(row: AddressList, by: str) -> AddressList:
    """Keep a new list, or one that was changed; whoever is known by now is no stranger any more.

    Raises
    ------
    Refusal
    """
    row.name = " ".join(row.name.split())
    if not 1 <= len(row.name) <= 120:
        raise Refusal("A list needs a name of up to 120 letters.", "name")
    if AddressList.objects.filter(name=row.name).exclude(pk=row.pk).exists():
        raise Refusal(f"There is a list {row.name} already.", "name")
    for name in ("within", "listed"):
        if len(getattr(row, name)) > LONGEST_TEXT:
            raise Refusal("That is too long for a list: use prefixes.", name)
        try:
            AddressSet.of(getattr(row, name))
        except Refusal as error:
            raise Refusal(str(error), name) from error
    if not row.is_deny and not row.within.strip():
        raise Refusal("Say within which addresses others are strangers, such as 10.0.0.0/8.", "within")
    if row.is_deny and not row.listed.strip():
        raise Refusal("Say which addresses must not be seen.", "listed")
    is_new = row.pk is None
    if is_new and AddressList.objects.count() >= MOST_LISTS:
        raise Refusal(f"There are {MOST_LISTS} lists already.")
    row.save()
    _settle(row, by)
    note_action(f"known addresses {row.name} {'created' if is_new else 'changed'}", by)
    announce("flows")
    return row


def _settle(row: AddressList, by: str) -> None:
    """Accept strangers that the list knows by now."""
    known = KnownAddresses(AddressSet.of(row.within), AddressSet.of(row.listed), row.is_deny)
    _accept([each for each in _open(row) if not _is_stranger(known, each)], by)


def _open(row: AddressList) -> QuerySet[Stranger]:
    return Stranger.objects.filter(known=row, accepted_at=None).order_by("first_at")


def _is_stranger(known: KnownAddresses, row: Stranger) -> bool:
    halves = (np.array([number & UNSIGNED], "u8") for number in (row.hi, row.lo))
    return bool(known.strangers(keys_of(*halves))[0])


def _accept(rows: Sequence[Stranger], by: str) -> None:
    Stranger.objects.filter(pk__in=[each.pk for each in rows]).update(accepted_at=timezone.now(), accepted_by=by)


@transaction.atomic
def delete_list(pk: int, by: str) -> None:
    """Delete a list and its strangers.

    Raises
    ------
    AddressList.DoesNotExist
    """
    row = AddressList.objects.get(pk=pk)
    row.delete()
    note_action(f"known addresses {row.name} deleted", by)
    announce("flows")


@transaction.atomic
def accept(pk: int, addresses: Sequence[str], prefix: str, by: str, *, everybody: bool = False) -> int:
    """Accept strangers of a list: some of them, those in a prefix, or all that were seen so far. An allow list knows them from then on.

    Returns
    -------
    how many

    Raises
    ------
    Refusal, AddressList.DoesNotExist
    """
    row = AddressList.objects.select_for_update().get(pk=pk)
    if prefix.strip():
        inside = KnownAddresses(AddressSet(), AddressSet.of(prefix), is_deny=True)
        chosen = [each for each in _open(row) if _is_stranger(inside, each)]
        entries = [prefix.strip()]
    elif everybody:
        chosen = list(_open(row)[:MOST_ACCEPTED])
        entries = [each.address for each in chosen]
    else:
        chosen = list(_those(row, addresses[:MOST_ACCEPTED]))
        entries = [each.address for each in chosen]
        if not chosen:
            raise Refusal("None of these is a stranger to this list.", "addresses")
    _accept(chosen, by)
    if not row.is_deny:
        today = timezone.now().astimezone(UTC)
        row.listed = "\n".join(
            [row.listed.rstrip(), *(f"{each}  # accepted {today:%Y-%m-%d} by {by}" for each in entries)]
        )
        if len(row.listed) > LONGEST_TEXT:
            raise Refusal("The list would become too long: accept a prefix instead.", "prefix")
        row.listed = row.listed.lstrip("\n")
        row.save(update_fields=["listed"])
    note_action(f"{len(chosen)} strangers to {row.name} accepted", by)
    announce("flows")
    return len(chosen)


def _those(row: AddressList, addresses: Iterable[str]) -> Iterable[Stranger]:
    wanted = set()
    for text in addresses:
        try:
            hi, lo = address_numbers(text)
        except ValueError as error:
            raise Refusal(f"{text[:60]} is not an address.", "addresses") from error
        wanted.add((signed(hi), signed(lo)))
    found = _open(row).filter(hi__in={hi for hi, _ in wanted}, lo__in={lo for _, lo in wanted})
    return [each for each in found if (each.hi, each.lo) in wanted]


@transaction.atomic
def keep(sightings: Sequence[Sighting]) -> None:
    """Keep who was seen; of those who were seen before the octets at the same port add up."""
    lists = set(AddressList.objects.values_list("pk", flat=True))
    ports = set(Interface.objects.filter(pk__in={each.interface for each in sightings}).values_list("pk", flat=True))
    known = {
        (row.known_id, row.hi, row.lo): row
        for row in Stranger.objects.select_for_update().filter(
            known__in=lists, lo__in={signed(each.lo) for each in sightings}
        )
    }
    new: dict[tuple[int, int, int], Stranger] = {}
    changed: dict[int, Stranger] = {}
    for each in sightings:
        key = each.known, signed(each.hi), signed(each.lo)
        at = datetime.fromtimestamp(each.at, UTC)
        row = known.get(key) or new.get(key)
        if row is None:
            if each.known not in lists or each.interface not in ports:
                # Deleted while it was on the way.
                continue
            row = new[key] = Stranger(
                known_id=each.known, hi=key[1], lo=key[2], first_at=at, last_at=at, interface_id=each.interface,
                peer_hi=signed(each.peer[0]), peer_lo=signed(each.peer[1]), port=each.port, protocol=each.protocol,
            )  # fmt: skip
        elif row.pk:
            changed[row.pk] = row
        row.last_at = max(row.last_at, at)
        if row.interface_id == each.interface:
            row.octets = min(2**63 - 1, row.octets + each.octets)
    Stranger.objects.bulk_create(new.values(), ignore_conflicts=True)
    Stranger.objects.bulk_update(changed.values(), ["last_at", "octets"], batch_size=500)
    if new:
        announce("flows")


def listed(known: int | None, *, is_accepted: bool, limit: int) -> tuple[list[Stranger], int]:
    """Strangers, the newest first, and how many there are in all."""
    wanted: dict[str, Any] = {"accepted_at__isnull": not is_accepted}
    if known is not None:
        wanted["known"] = known
    rows = Stranger.objects.filter(**wanted).select_related("known", "interface__device").order_by("-last_at")
    return list(rows[:limit]), rows.count()
