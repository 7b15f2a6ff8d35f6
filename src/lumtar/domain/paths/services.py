"""Paths as people set them up, and as a prober reads them."""

from collections.abc import Iterable, Mapping, Sequence

from django.db import transaction

from lumtar.core.paths.kinds import KINDS
from lumtar.core.refusal import Refusal
from lumtar.domain.logbook.named import keep_named
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.paths.models import Path

MOST = 20_000
MOST_MS = 3_600_000
MOST_GROUPS = 20
LEAST_OCTETS, MOST_OCTETS = 44, 8900


@transaction.atomic
def keep(row: Path, by: str) -> Path:
    """Keep a new path, or one that was changed.

    Raises
    ------
    Refusal
    """
    for name, least, most, words in (
        ("port", 0, 65535, "The port"), ("dscp", 0, 63, "DSCP"), ("octets", LEAST_OCTETS, MOST_OCTETS, "A test packet's octets"),
    ):  # fmt: skip
        if not least <= getattr(row, name) <= most:
            raise Refusal(f"{words}: {least} to {most:,}.", name)
    row.groups = _checked_groups(row.groups)
    _check_kind(row)
    if not row.prober.strip():
        raise Refusal("Say which prober sends the test packets.", "prober")
    return keep_named(row, "path", by, "paths", most=MOST)


def _checked_groups(given: Iterable[str]) -> list[str]:
    """Names of groups, each once.

    Raises
    ------
    Refusal
    """
    names = list(dict.fromkeys(filter(None, (" ".join(name.split()) for name in given))))
    if len(names) > MOST_GROUPS or any(len(name) > 80 for name in names):
        raise Refusal(f"A path is in up to {MOST_GROUPS} groups, with names of up to 80 letters.", "groups")
    return names


def _check_kind(row: Path) -> None:
    """Whether what is said of a path goes with how it is measured.

    Raises
    ------
    Refusal
    """
    kind = KINDS.get(row.kind)
    if kind is None:
        raise Refusal(f"There are probes of the kinds {', '.join(KINDS)}.", "kind")
    if not kind.least_ms <= row.every_ms <= MOST_MS:
        raise Refusal(
            f"The time between two probes in milliseconds, of {kind.words}: {kind.least_ms:,} to {MOST_MS:,}.",
            "every_ms",
        )
    if kind.needs_address and not row.address:
        raise Refusal("Say whom it asks: an address.", "address")
    if kind.is_by_device and row.device is None:
        raise Refusal("Say which device makes this test.", "device")
    if not kind.is_by_device:
        row.device = None
    if kind.port and not row.port:
        raise Refusal(f"Say at which port; usual is {kind.port}.", "port")
    if row.traces and not row.address:
        raise Refusal("A route is traced to an address; give one.", "address")
    row.asked, row.expected = row.asked.strip(), row.expected.strip()
    kind.check(row.asked)


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
    by_devices = [name for name, kind in KINDS.items() if kind.is_by_device]
    return list(Path.objects.filter(prober=prober, enabled=True).exclude(kind__in=by_devices).order_by("pk"))


def note_problems(rows: Iterable[Path], problems: Mapping[int, str]) -> None:
    """Keep why probes of some paths cannot be sent, or that they can."""
    changed = []
    for row in rows:
        words = problems.get(row.pk, "")[:200]
        if row.problem != words:
            row.problem = words
            changed.append(row)
    Path.objects.bulk_update(changed, ["problem"])
