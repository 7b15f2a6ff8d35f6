"""Contacts and their addresses: kept, tried out, and given back without their secrets."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import orjson
from django.db import transaction

from lumtar.core.alarms.severity import Severity
from lumtar.core.calling import Hours
from lumtar.core.reach import check_ranges
from lumtar.core.refusal import Refusal
from lumtar.domain.calling.channels import CHANNELS
from lumtar.domain.calling.models import Address, CallPlan, Contact, Destinations, Team
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.secrets import seal, unseal
from lumtar.domain.operation.services import announce

LONGEST_NAME, MOST_ADDRESSES = 80, 20


@dataclass(frozen=True, slots=True)
class AddressSpec:
    """What people say of an address. ``id`` is that of one that is there; of its secrets only what is given is replaced."""

    channel: str
    target: Mapping[str, str]
    enabled: bool = True
    id: int | None = None


@dataclass(frozen=True, slots=True)
class ContactSpec:
    """What people say of a contact."""

    name: str
    zone: str = "UTC"
    quiet: str = ""
    quiet_from: int = Severity.CRITICAL
    addresses: Sequence[AddressSpec] = field(default_factory=tuple)


def target_of(address: Address) -> dict[str, str]:
    """What an address consists of, secrets included: for sending only.

    Raises
    ------
    SecretUnreadable
    """
    opened: dict[str, str] = orjson.loads(unseal(address.sealed))
    return opened


def open_fields(address: Address) -> dict[str, str]:
    """What an address consists of, without its secrets."""
    channel = CHANNELS.get(address.channel)
    if channel is None:
        return {}
    secret = {blank.name for blank in channel.fields if blank.is_secret}
    return {name: value for name, value in target_of(address).items() if name not in secret}


@transaction.atomic
def save(
    spec: ContactSpec, by: str, pk: int | None = None, edition: int = 0, *, is_administrator: bool = True
) -> Contact:
    """Keep a new contact or a changed one.

    Raises
    ------
    Refusal, Stale, Contact.DoesNotExist
    """
    name = spec.name.strip()
    if not 1 <= len(name) <= LONGEST_NAME:
        raise Refusal(f"A contact's name has 1 to {LONGEST_NAME} characters.", "name")
    Hours.of(spec.quiet, spec.zone)
    if len(spec.addresses) > MOST_ADDRESSES:
        raise Refusal(f"A contact has at most {MOST_ADDRESSES} addresses.", "addresses")
    contact = Contact() if pk is None else claim(Contact, pk, edition)
    contact.name, contact.zone, contact.quiet = name, spec.zone.strip(), spec.quiet.strip()
    contact.quiet_from = int(Severity(spec.quiet_from))
    mark(contact, by)
    _keep_addresses(contact, spec.addresses, is_administrator)
    note_action(f"contact {contact.name} {'created' if pk is None else 'changed'}", by)
    announce("calling")
    return contact


def _keep_addresses(contact: Contact, wanted: Sequence[AddressSpec], is_administrator: bool) -> None:
    known = {address.pk: address for address in contact.addresses.all()}
    if missing := [spec.id for spec in wanted if spec.id is not None and spec.id not in known]:
        raise Refusal(f"There is no address {missing[0]} of {contact.name} any more; load it again.", "addresses")
    kept = {spec.id for spec in wanted}
    contact.addresses.exclude(pk__in=[pk for pk in kept if pk is not None]).delete()
    for place, spec in enumerate(wanted):
        channel = CHANNELS.get(spec.channel)
        if channel is None:
            raise Refusal(f"There is no channel {spec.channel}; there are {', '.join(CHANNELS)}.", "channel")
        address = known[spec.id] if spec.id is not None else Address(contact=contact)
        before = target_of(address) if spec.id is not None and address.channel == spec.channel else {}
        given = {blank.name: spec.target[blank.name].strip() for blank in channel.fields if spec.target.get(blank.name)}
        target = {**before, **given}
        if missing_one := next((b for b in channel.fields if b.is_required and not target.get(b.name)), None):
            raise Refusal(f"The {missing_one.words.lower()} of an address is missing.", "target")
        is_elsewhere = any(before.get(b.name, "") != target.get(b.name, "") for b in channel.fields if b.is_where)
        if (
            before
            and is_elsewhere
            and (old := next((b for b in channel.fields if b.is_secret and b.name not in given), None))
        ):
            raise Refusal(f"It goes to another receiver now: enter its {old.words.lower()} as well.", "target")
        is_changed = target != before or address.channel != spec.channel
        if is_changed and channel.for_administrators and not is_administrator:
            raise Refusal(f"Only administrators set up addresses of the kind “{channel.words}”.", "channel")
        if is_changed:
            address.shown, address.sealed = channel.check(target)[:300], seal(orjson.dumps(target).decode())
        address.channel, address.enabled, address.place = spec.channel, spec.enabled, place
        address.save()


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a contact that no team and no call plan names.

    Raises
    ------
    Refusal, Contact.DoesNotExist
    """
    contact = Contact.objects.select_for_update().get(pk=pk)
    uses = [f"the team {team}" for team in Team.objects.filter(places__contact=contact)]
    uses += [f"the call plan {plan}" for plan in CallPlan.objects.filter(steps__contacts=contact).distinct()]
    if uses:
        raise Refusal(f"{contact.name} is named by {', '.join(uses[:5])}; take it out of there first.")
    contact.delete()
    note_action(f"contact {contact.name} deleted", by)
    announce("calling")


@transaction.atomic
def allow(ranges: str, hosts: str, by: str) -> Destinations:
    """Say where messages other than mail may be sent.

    Raises
    ------
    Refusal
    """
    row = Destinations.objects.select_for_update().first() or Destinations()
    row.ranges, row.hosts = check_ranges(ranges), ", ".join(hosts.replace(",", " ").split())
    row.edition += 1
    mark(row, by)
    note_action(f"messages may be sent to {row.ranges} {row.hosts}"[:400], by)
    announce("calling")
    return row
