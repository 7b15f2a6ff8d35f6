"""Keeping what a controller answered: what is new, what changed, what is missing."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction

from lumtar.core.controllers import (
    ALARM,
    DEVICE,
    KEY,
    KINDS,
    POLICY,
    TRANSPORT,
    TUNNEL,
    Listing,
    ListKind,
    Row,
    Told,
    is_active,
    severity_of,
)
from lumtar.domain.controllers import members
from lumtar.domain.controllers.models import Controller, ControllerItem
from lumtar.domain.controllers.services import lists_of
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce

PATIENCE = 3
"""Answers in a row in which something has to be missing until it is taken to be gone; one answer may be half a one."""
KEPT = timedelta(days=90)
"""How long what is gone is shown."""
OF_POLICIES = ("about", "transport")
"""Fields of a policy whose change is written into the logbook."""
STATES = {True: "up", False: "down", None: "unknown"}


@dataclass(slots=True)
class Answer:
    """What a controller answered: the lists that it gave, and why others could not be read; ``problem`` if nothing could."""

    lists: dict[str, Told] = field(default_factory=dict)
    faults: dict[str, str] = field(default_factory=dict)
    problem: str = ""


Facts = tuple[Any, ...]
WRITTEN = ("name", "facts", "up", "device", "peer", "interface", "about", "severity", "since", "missed", "gone_at")


def _stored(item: ControllerItem) -> Facts:
    ids = ("device", "peer", "interface", "about")
    return tuple(getattr(item, f"{name}_id" if name in ids else name) for name in WRITTEN)


@dataclass(slots=True)
class _Changes:
    """What comes of an answer."""

    controller: Controller
    now: datetime
    seen: dict[int, tuple[ControllerItem, Facts]] = field(default_factory=dict)
    """By number what was known already, and what was stored of it."""
    entries: list[Entry] = field(default_factory=list)

    def look_at(self, item: ControllerItem) -> None:
        """Remember what is stored of an item that is about to be renewed."""
        self.seen[item.pk] = item, _stored(item)

    def write(self) -> None:
        """Store what is another by now; of everything else that it was seen, in one statement."""
        changed = [item for item, before in self.seen.values() if _stored(item) != before]
        same = self.seen.keys() - {item.pk for item in changed}
        ControllerItem.objects.bulk_update(changed, [*WRITTEN, "seen_at"], batch_size=500)
        ControllerItem.objects.filter(pk__in=same).update(seen_at=self.now)

    def note(self, text: str, device: Device | None = None) -> None:
        """Write it into the logbook."""
        words = f"{self.controller}: {text}"[:400]
        self.entries.append(Entry(at=self.now, kind=Entry.Kind.TOPOLOGY, device=device, text=words))


@transaction.atomic
def keep(pk: int, answer: Answer, now: datetime) -> None:
    """Keep an answer. A list that could not be read changes nothing of what was told before."""
    controller = Controller.objects.select_for_update(of=("self",)).select_related("profile", "credential").filter(pk=pk).first()  # fmt: skip
    if controller is None:
        return
    changes = _Changes(controller, now)
    known: dict[str, dict[str, ControllerItem]] = {name: {} for name in KINDS}
    for item in ControllerItem.objects.filter(controller=controller).select_related("device", "peer"):
        known[item.kind][item.key] = item
    # A profile may have been changed while it was asked by the one before.
    asked = lists_of(controller.profile)
    for name, listing in asked.items():
        if name in answer.lists:
            _keep_list(changes, KINDS[name], listing, answer.lists[name].rows, known)
    changes.write()
    ControllerItem.objects.filter(controller=controller, gone_at__lt=now - KEPT).delete()
    if controller.adds:
        members.add_new(controller, now)
    Entry.objects.bulk_create(changes.entries)
    controller.problem = answer.problem[:300]
    controller.complaints = {
        name: [answer.faults[name]] if name in answer.faults else answer.lists[name].wrong
        for name in asked
        if name in answer.faults or (name in answer.lists and answer.lists[name].wrong)
    }
    controller.asked_at = now
    controller.answered_at = now if answer.lists else controller.answered_at
    controller.save(update_fields=["problem", "complaints", "asked_at", "answered_at"])
    announce("controllers", [controller.pk])


def _keep_list(
    changes: _Changes,
    kind: ListKind,
    listing: Listing,
    rows: Sequence[Row],
    known: Mapping[str, dict[str, ControllerItem]],
) -> None:
    mine = known[kind.name]
    is_first = not mine
    there: list[ControllerItem] = []
    fresh: list[ControllerItem] = []
    for row in rows:
        item = mine.get(row[KEY])
        is_new = item is None
        if item is None:
            item = mine[row[KEY]] = ControllerItem(
                controller=changes.controller, kind=kind.name, key=row[KEY], since=changes.now
            )
            fresh.append(item)
        else:
            changes.look_at(item)
        _renew(changes, kind, item, row, listing.is_up(row["state"]) if kind.has_state else None, is_new=is_new)
        there.append(item)
    _place(kind, there, known)
    ControllerItem.objects.bulk_create(fresh)
    if not is_first and kind is not ALARM:
        for item in fresh:
            changes.note(f"{kind.name} {item.name} is new", item.device)
    told = {row[KEY] for row in rows}
    _miss(changes, kind, [item for key, item in mine.items() if key not in told and item.gone_at is None])


def _renew(changes: _Changes, kind: ListKind, item: ControllerItem, row: Row, up: bool | None, *, is_new: bool) -> None:
    """What is told of it now; what is news beyond that is written into the logbook."""
    if not is_new:
        if item.gone_at is not None:
            changes.note(f"{kind.name} {row[kind.title]} is back", item.device)
        if kind is POLICY and (moved := [name for name in OF_POLICIES if item.facts.get(name) != row[name]]):
            by = f" by {row['changed_by']}" if row["changed_by"] else ""
            told = ", ".join(f"{name} {item.facts.get(name) or 'none'} → {row[name] or 'none'}" for name in moved)
            changes.note(f"policy {item.name} changed{by}: {told}")
        if item.up != up:
            item.since = changes.now
            changes.note(f"{kind.name} {item.name} is {STATES[up]}; it was {STATES[item.up]}", item.device)
    item.name, item.facts, item.up = row[kind.title], row, up
    item.seen_at, item.missed, item.gone_at = changes.now, 0, None
    if kind is ALARM:
        was, item.severity = item.severity, int(severity_of(row)) if is_active(row) else 0
        if was != item.severity and not is_new:
            item.since = changes.now


def _miss(changes: _Changes, kind: ListKind, missing: Sequence[ControllerItem]) -> None:
    """What is not in an answer any more; alarms that are not told of any more are over at once."""
    for item in missing:
        changes.look_at(item)
        item.missed += 1
        if kind is ALARM or item.missed >= PATIENCE:
            item.gone_at, item.severity = changes.now, 0
            if kind is not ALARM:
                changes.note(f"{kind.name} {item.name} is not told of any more", item.device)


def _place(kind: ListKind, items: Sequence[ControllerItem], known: Mapping[str, dict[str, ControllerItem]]) -> None:
    """Find the devices, the interface, and of alarms the part, that items are about."""
    if kind is DEVICE:
        found = members.devices_of(items)
        for item in items:
            item.device = found.get(item.key)
        return
    named = {each.name: _by_word(known[each.name].values()) for each in (DEVICE, TRANSPORT, TUNNEL)}
    for item in items:
        facts = item.facts
        device, peer = (named["device"].get(facts.get(name, "")) for name in ("device", "peer"))
        over = named["transport"].get(facts.get("transport", ""))
        tunnel = named["tunnel"].get(facts.get("tunnel", ""))
        if kind is ALARM:
            item.about = tunnel or over or device
        part = item.about if kind is ALARM and item.about else None
        item.device = (device and device.device) or (part and part.device) or None
        item.peer = (peer and peer.device) or (part and part.peer) or None
        item.facts = {**facts, "interface": facts.get("interface", "") or (over.facts.get("interface", "") if over else "")}  # fmt: skip
    _find_interfaces(items)


def _by_word(items: Iterable[ControllerItem]) -> dict[str, ControllerItem]:
    """Items by their names, and before these by what the controller tells them apart by."""
    listed = [each for each in items if each.gone_at is None]
    return {**{each.name: each for each in listed}, **{each.key: each for each in listed}}


def _find_interfaces(items: Sequence[ControllerItem]) -> None:
    """The ports that carry tunnels and transports, by their name at the device."""
    devices = {item.device_id for item in items if item.device_id and item.facts["interface"]}
    ports = Interface.objects.filter(device_id__in=devices, gone_at=None) if devices else ()
    by_name = {(port.device_id, word.lower()): port for port in ports for word in (port.descr, port.name) if word}
    for item in items:
        item.interface = by_name.get((item.device_id or 0, item.facts["interface"].lower()))
