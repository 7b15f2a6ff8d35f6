"""Paths as people set them up, and as a prober reads them."""

from collections.abc import Mapping, Sequence

from django.db import transaction

from lumtar.core.refusal import Refusal
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.paths.models import Path

MOST = 20_000
LEAST_MS, MOST_MS = 20, 60_000
LEAST_OCTETS, MOST_OCTETS = 44, 8900


@transaction.atomic
def keep(row: Path, by: str) -> Path:
    """Keep a new path, or one that was changed.

    Raises
    ------
    Refusal
    """
    row.name = " ".join(row.name.split())
    if not 1 <= len(row.name) <= 120:
        raise Refusal("A path needs a name of up to 120 letters.", "name")
    others = Path.objects.exclude(pk=row.pk)
    if others.filter(name=row.name).exists():
        raise Refusal(f"There is a path {row.name} already.", "name")
    for name, least, most, words in (
        ("port", 1, 65535, "The port of a reflector"), ("dscp", 0, 63, "DSCP"), ("octets", LEAST_OCTETS, MOST_OCTETS, "A test packet's octets"),
        ("every_ms", LEAST_MS, MOST_MS, "The time between two probes in milliseconds"),
    ):  # fmt: skip
        if not least <= getattr(row, name) <= most:
            raise Refusal(f"{words}: {least} to {most:,}.", name)
    if not row.prober.strip():
        raise Refusal("Say which prober sends the test packets.", "prober")
    is_new = row.pk is None
    if is_new and others.count() >= MOST:
        raise Refusal(f"There are {MOST:,} paths already.")
    row.save()
    note_action(f"path {row.name} {'created' if is_new else 'changed'}", by)
    announce("paths")
    return row


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a path; what was measured of it goes with its partitions.

    Raises
    ------
    Path.DoesNotExist
    """
    row = Path.objects.get(pk=pk)
    row.delete()
    note_action(f"path {row.name} deleted", by)
    announce("paths")


def of_prober(prober: str) -> Sequence[Path]:
    """The paths that a prober measures."""
    return list(Path.objects.filter(prober=prober, enabled=True).order_by("pk"))


def note_problems(prober: str, problems: Mapping[int, str]) -> None:
    """Keep why probes cannot be sent, of all paths of a prober."""
    changed = []
    for row in Path.objects.filter(prober=prober):
        words = problems.get(row.pk, "")[:200]
        if row.problem != words:
            row.problem = words
            changed.append(row)
    Path.objects.bulk_update(changed, ["problem"])
