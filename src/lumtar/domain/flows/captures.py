"""Captures of packets: asked for by people, done by a collector, kept for a while."""

from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.flows.models import Capture
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.models import Process
from lumtar.domain.operation.services import announce

LONGEST_S, MOST_OCTETS = 600, 64 << 20
MOST_AT_ONCE = 2
"""Captures that a collector does side by side."""
KEPT, MOST_KEPT = timedelta(days=7), 50
ALIVE = timedelta(seconds=20)
LOST = timedelta(seconds=30)
"""So long after it should have ended a capture is given up: its collector is gone."""
OPEN = (Capture.State.WAITING, Capture.State.RUNNING)


def places() -> list[tuple[str, list[str]]]:
    """Collectors that run, and the interfaces that they can capture at."""
    rows = Process.objects.filter(kind="collector", stopped_at=None, beat_at__gt=timezone.now() - ALIVE).order_by(
        "name"
    )
    return [(row.name, list(row.detail.get("capture_interfaces", []))) for row in rows]


@transaction.atomic
def ask(row: Capture) -> Capture:
    """Ask for packets to be captured.

    Raises
    ------
    Refusal
    """
    known = dict(places())
    if row.collector not in known:
        raise Refusal(f"There is no collector {row.collector[:60]} that runs.", "collector")
    if row.interface not in known[row.collector]:
        raise Refusal(f"{row.collector} has no interface {row.interface[:40]}.", "interface")
    if not 1 <= row.seconds <= LONGEST_S:
        raise Refusal("A capture lasts for 1 to 600 seconds.", "seconds")
    if not 64 <= row.longest <= 65_535:
        raise Refusal("Of a packet 64 to 65,535 octets are kept.", "longest")
    if not 10_000 <= row.most_octets <= MOST_OCTETS:
        raise Refusal("A capture has 10 kB to 64 MB.", "most_octets")
    if Capture.objects.filter(collector=row.collector, state__in=OPEN).count() >= MOST_AT_ONCE:
        raise Refusal(f"{row.collector} does {MOST_AT_ONCE} captures already; wait, or stop one of them.")
    row.save()
    filtered = f" with the filter {row.filter}" if row.filter else ""
    note_action(f"capture at {row.collector} {row.interface}{filtered} for {row.seconds} s", row.by)
    announce("flows")
    return row


def take(collector: str) -> Capture | None:
    """Take one that is asked for; those whose collector went away are given up."""
    now = timezone.now()
    for lost in Capture.objects.filter(state=Capture.State.RUNNING).defer("data"):
        if lost.begun_at and now - lost.begun_at > timedelta(seconds=lost.seconds) + LOST:
            end(lost, Capture.State.FAILED, "The collector went away meanwhile.")
    with transaction.atomic():
        rows = Capture.objects.select_for_update(skip_locked=True)
        row = rows.filter(collector=collector, state=Capture.State.WAITING).order_by("asked_at").first()
        if row is not None:
            row.state, row.begun_at = Capture.State.RUNNING, now
            row.save(update_fields=["state", "begun_at"])
        return row


def is_stopped(row: Capture) -> bool:
    """Whether somebody stopped it, or deleted it."""
    return not Capture.objects.filter(pk=row.pk, is_stopped=False).exists()


def end(row: Capture, state: Capture.State, words: str) -> None:
    """Keep what came of it; what is too old, or too much, goes."""
    row.state, row.words, row.ended_at = state, words[:400], timezone.now()
    Capture.objects.filter(pk=row.pk).update(
        state=row.state, words=row.words, ended_at=row.ended_at, packets=row.packets, dropped=row.dropped, octets=row.octets,
        data=row.data,
    )  # fmt: skip
    forget_old(timezone.now())
    announce("flows")


def forget_old(now: datetime) -> None:
    """Delete captures that are older than they are kept, and the oldest of too many."""
    Capture.objects.filter(asked_at__lt=now - KEPT).delete()
    newest = list(Capture.objects.order_by("-asked_at").values_list("pk", flat=True)[:MOST_KEPT])
    Capture.objects.exclude(pk__in=newest).delete()


@transaction.atomic
def stop(pk: int, by: str) -> None:
    """Have it end now; what was captured is kept.

    Raises
    ------
    Capture.DoesNotExist
    """
    row = Capture.objects.select_for_update().defer("data").get(pk=pk)
    row.is_stopped = True
    row.save(update_fields=["is_stopped"])
    if row.state == Capture.State.WAITING:
        end(row, Capture.State.FAILED, "Stopped before it began.")
    note_action(f"capture at {row.collector} {row.interface} stopped", by)


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a capture with its packets.

    Raises
    ------
    Capture.DoesNotExist
    """
    row = Capture.objects.defer("data").get(pk=pk)
    row.delete()
    note_action(f"capture at {row.collector} {row.interface} deleted", by)
    announce("flows")
