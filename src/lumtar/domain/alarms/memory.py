"""What rules remember, kept beyond a restart: in pieces as it changes, joined now and then."""

import zlib
from collections.abc import Collection

import numpy as np
from django.db import connection, transaction

from lumtar.core.rules import Pairs
from lumtar.domain.alarms.exceptions import OWN_LEVELS
from lumtar.domain.alarms.models import Rule, RuleException, RuleMemory
from lumtar.domain.inventory.models import Device

JOIN_FROM = 50
"""Pieces of one kind of subject from which on they are joined."""
NO_DEVICE = 0
"""The owner of subjects that belong to no device."""
MOST_PAIRS = 2_000_000
"""Pairs of one piece, when they are joined."""


def keep(subject: str, pairs: Pairs) -> None:
    """Write down what changed. In the transaction of the values that it follows from, so that both are there or neither."""
    if len(pairs):
        RuleMemory.objects.create(subject=subject, pairs=_packed(pairs))


def _packed(pairs: Pairs) -> bytes:
    return zlib.compress(np.ascontiguousarray(pairs.rows(), "<i8").tobytes(), 1)


def _unpacked(piece: bytes) -> Pairs:
    return Pairs.of_rows(np.frombuffer(zlib.decompress(piece), "<i8").astype(np.int64))


def load(subject: str, devices: Collection[int]) -> Pairs:
    """What is remembered of the subjects of one kind that belong to some devices."""
    wanted = np.array(sorted(devices), np.int64)
    pieces = RuleMemory.objects.filter(subject=subject).order_by("pk").values_list("pairs", flat=True)
    # Each piece is narrowed as it comes: other collectors' devices may be ten times as many.
    return Pairs.joined([_unpacked(bytes(piece)).of_owners(wanted) for piece in pieces.iterator(200)]).newest()


def _in_force(pairs: Pairs) -> Pairs:
    """Without those of rules that were changed and of devices that are gone."""
    rules = set(Rule.objects.values_list("pk", "revision"))
    exceptions = RuleException.objects.values_list("pk", "rule_id", "rule__revision")
    rules |= {(pk << OWN_LEVELS | rule, revision) for pk, rule, revision in exceptions}
    devices = np.array([NO_DEVICE, *Device.objects.values_list("pk", flat=True)], np.int64)
    kept = pairs.of_owners(devices)
    same = [key in rules for key in zip(kept.rule.tolist(), kept.revision.tolist(), strict=True)]
    return Pairs.of_rows(kept.rows()[np.array(same, np.bool_)])


@transaction.atomic
def join() -> int:
    """Make one piece of many. Returns how many pieces there were.

    Whoever writes waits for it: a piece that was begun before and committed after it would be older than what it follows.
    """
    before = 0
    for subject in RuleMemory.objects.values_list("subject", flat=True).distinct().order_by("subject"):
        if RuleMemory.objects.filter(subject=subject).count() < JOIN_FROM:
            continue
        with connection.cursor() as cursor:
            cursor.execute("LOCK TABLE alarms_rulememory IN SHARE ROW EXCLUSIVE MODE")
        pieces = list(RuleMemory.objects.filter(subject=subject).order_by("pk"))
        pairs = _in_force(Pairs.joined([_unpacked(bytes(piece.pairs)) for piece in pieces]).newest())
        RuleMemory.objects.filter(pk__in=[piece.pk for piece in pieces]).delete()
        for start in range(0, len(pairs), MOST_PAIRS):
            keep(subject, Pairs.of_rows(pairs.rows()[start : start + MOST_PAIRS]))
        before += len(pieces)
    return before
