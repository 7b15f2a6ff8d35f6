"""When traffic took another transport than before, why as far as it was seen, and how paths were before and after."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from django.db import transaction
from django.db.models import Q

from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce
from lumtar.domain.paths import classes, store
from lumtar.domain.paths.models import Move, Path, ServiceClass, Transport
from lumtar.domain.reports import overlay

AROUND = timedelta(minutes=15)
"""So long before and after a move paths are compared, and so long before it a change may be its reason."""


@transaction.atomic
def note_moves(now: datetime) -> list[Move]:
    """Note where traffic takes another transport than before. Returns the moves."""
    transports = {row.pk: row for row in Transport.objects.select_related("interface")}
    names = dict(ServiceClass.objects.values_list("pk", "name"))
    rows = Move.objects.order_by("site_id", "service_class_id", "-at", "-pk").distinct("site_id", "service_class_id")
    last = {(row.site_id, row.service_class_id): row for row in rows}
    made = []
    for key, (use, is_ruled) in _uses(transports.values(), last).items():
        site, service_class = key
        # A class goes with its site unless a policy speaks of it.
        mine = last.get(key)
        before = mine if mine is not None and mine.is_ruled else last.get((site, None))
        known = before.to_transport_id if before else None
        is_moved = known is not None and known != use.transport
        if before is not None and not is_moved and before.is_ruled == is_ruled:
            continue
        why = _reason(transports.get(known or 0), use, now) if is_moved and service_class is None else use.why
        row = Move(
            site_id=site, service_class_id=service_class, is_ruled=is_ruled, at=now, to_transport_id=use.transport
        )
        if is_moved:
            row.from_transport_id, row.why = known, why[:300]
        made.append(row)
        if is_moved and (port := transports[use.transport].interface):
            what = names.get(service_class or 0, "traffic")
            words = f"{what} moved from {transports[known or 0]} to {transports[use.transport]}: {why}"
            Entry.objects.create(
                at=now, kind=Entry.Kind.TOPOLOGY, device_id=port.device_id, interface=port, text=words[:400]
            )
    Move.objects.bulk_create(made)
    if made:
        announce("paths")
    return made


Key = tuple[int, int | None]
"""A site, and a service class that a policy rules there; None is what goes by the routes of the site."""


def _uses(transports: Iterable[Transport], last: Mapping[Key, Move]) -> dict[Key, tuple[overlay.Use, bool]]:
    """What is used now, and whether a policy rules it."""
    used = overlay.in_use(transports)
    found: dict[Key, tuple[overlay.Use, bool]] = {(site, None): (use, False) for site, use in used.items()}
    for key, row in last.items():
        if row.is_ruled and key[0] in used:
            again = used[key[0]]
            found[key] = replace(again, why=f"no policy speaks of it any more, and {again.why}"), False
    return found | {key: (use, True) for key, use in overlay.by_policy(transports, used).items()}


def _reason(before: Transport | None, use: overlay.Use, now: datetime) -> str:
    """Why traffic moved: a port that is down, a promise that was missed, a change by somebody; else what the router does."""
    if before is None or use.is_forced:
        return use.why
    changes = Entry.objects.filter(
        kind=Entry.Kind.USER, at__gte=now - AROUND, at__lte=now, device__interfaces=before.interface_id
    )
    if before.interface_id and (change := changes.order_by("-at").first()):
        return f"after a change{f' by {change.by}' if change.by else ''}: {change.text}"
    promised = classes.by_path()
    paths = list(before.paths.filter(pk__in=promised))
    told = overlay.figures(store.read([row.pk for row in paths], now - AROUND, now), promised)
    if missing := [row.name for row in paths if row.pk in told and told[row.pk][3]]:
        return f"{', '.join(missing[:3])} did not keep what is promised"
    return f"{use.why}; nothing else was seen"


@dataclass(frozen=True, slots=True)
class Compared:
    """A path around a move: milliseconds and per cent before and after."""

    path: Path
    before: overlay.Figures | None
    after: overlay.Figures | None


def around(move: Move) -> list[Compared]:
    """The service classes that moved: before it over the one transport, and after it over the other one."""
    mine = Q(service_class=move.service_class_id) if move.service_class_id else Q(service_class__isnull=False)
    promised = classes.by_path()
    told = {}
    for transport, start, end in (
        (move.from_transport_id, move.at - AROUND, move.at), (move.to_transport_id, move.at, move.at + AROUND),
    ):  # fmt: skip
        paths = list(Path.objects.filter(mine, transport=transport).select_related("service_class"))
        whole = overlay.figures(store.read([row.pk for row in paths], start, end), promised)
        told[transport] = {row.service_class_id: (row, whole.get(row.pk)) for row in paths}
    before, after = told.get(move.from_transport_id, {}), told.get(move.to_transport_id, {})
    return [
        Compared(after[key][0], before[key][1], after[key][1]) for key in sorted(before.keys() & after.keys(), key=str)
    ]


def moves(start: datetime, end: datetime) -> Iterable[Move]:
    """Moves of a time, newest first; where traffic was when it was looked at first is none."""
    rows = Move.objects.filter(at__gte=start, at__lt=end, from_transport__isnull=False)
    return rows.select_related("site", "service_class", "from_transport", "to_transport").order_by("-at")[:200]
