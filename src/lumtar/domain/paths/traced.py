"""Routes of paths as probers trace them: what was seen is kept, and a change is written in the logbook."""

from collections.abc import Mapping, Sequence
from datetime import datetime

from django.db import transaction

from lumtar.core.paths.routes import filled, is_other_route
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.services import announce
from lumtar.domain.paths.models import Path, TracedRoute


@transaction.atomic
def note(told: Mapping[int, Sequence[str]], at: datetime) -> int:
    """Keep the routes of some paths as they were at a time. Returns how many are others than before."""
    changed = 0
    rows = TracedRoute.objects.filter(path__in=told).order_by("path_id", "-since", "-pk").distinct("path_id")
    newest = {row.path_id: row for row in rows}
    names = dict(Path.objects.filter(pk__in=told).values_list("pk", "name"))
    for path, hops in told.items():
        if path not in names or not any(hops):
            continue
        before = newest.get(path)
        if before is not None and not is_other_route(before.hops, hops):
            before.hops, before.seen_at = filled(before.hops, hops), at
            before.save(update_fields=["hops", "seen_at"])
            continue
        TracedRoute.objects.create(path_id=path, hops=list(hops), since=at, seen_at=at)
        if before is not None:
            changed += 1
            words = f"the route of {names[path]} is another one: {words_of(hops)} instead of {words_of(before.hops)}"
            Entry.objects.create(at=at, kind=Entry.Kind.TOPOLOGY, text=words[:400])
    if changed:
        announce("paths")
    return changed


def words_of(hops: Sequence[str]) -> str:
    """Hops in a line; those that did not answer are a question mark."""
    return " ".join(hop or "?" for hop in hops)
