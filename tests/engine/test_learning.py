"""Normal ranges from stored readings to an alarm, in rehearsals and live."""

from datetime import UTC, datetime, timedelta
from functools import partial

import numpy as np
import pytest

from lumtar.core.measures import Counts
from lumtar.core.refusal import Refusal
from lumtar.core.rules import Reference
from lumtar.domain.alarms import baselines, exceptions, rules
from lumtar.domain.alarms.models import Baseline, Rule
from lumtar.domain.inventory.models import Interface, InterfaceSpeed
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings import partitions, rollups
from lumtar.domain.reports import learning, rehearsals
from lumtar.engine.batch import Batch
from lumtar.engine.collector.targets import RulesInForce
from lumtar.engine.watching import Watch
from tests.domain.stored import store

NOW = datetime(2026, 11, 23, 0, 0, tzinfo=UTC)
SPEED = 1_000_000


@pytest.fixture
def port(transactional_db):
    """A port with four weeks of five-minute sums: a tenth full at night, half full by day, and a busy night near the end."""
    device = add_device("127.0.9.9", name="hex-wan-1", kind="v2c", secret={"community": "word"})
    made = Interface.objects.create(device=device, if_index=1, name="wan1", label="Transport 1")
    start = NOW - timedelta(days=28)
    InterfaceSpeed.objects.create(interface=made, since=start, port_bps=SPEED, in_bps=SPEED, out_bps=SPEED)
    partitions.ensure(start.date(), NOW.date() + timedelta(days=1))
    at = [start + timedelta(minutes=5 * (number + 1)) for number in range(28 * 288)]
    dice, odd = np.random.default_rng(5), NOW - timedelta(days=2, hours=-2)
    by_day = np.array([8 <= each.hour < 18 for each in at])
    share = np.where(by_day, 0.5 + 0.02 * dice.random(len(at)), 0.1 + 0.01 * dice.random(len(at)))
    share[[odd <= each <= odd + timedelta(hours=2) for each in at]] = 0.6
    store(made, at, (share * SPEED / 8 * 300).astype(np.int64), 0, elapsed_ms=300_000)
    rollups.roll_up_due(datetime.now(UTC))
    return made


def rule_of(reference, limit, direction="above", **more):
    level = {"severity": 4, "limit": limit, "clear": limit / 2}
    if direction == "outside":
        level |= {"low": -limit, "low_clear": -limit / 2}
    made = {
        "name": reference or "plain",
        "measure": "load",
        "levels": [level],
        "reference": reference,
        "direction": direction,
    }
    return rules.create({**made, "times": 3, "of": 3, **more}, "anna")


@pytest.mark.parametrize(("reference", "limit"), [("learned", 6), ("yesterday", 200), ("last_week", 200)])
def test_a_rehearsal_finds_the_busy_night_and_nothing_else(port, reference, limit):
    rule = rules.as_core(rule_of(reference, limit))
    start = NOW - timedelta(days=7)
    done = rehearsals.run(rule, [port.pk], start, NOW, learning.over)
    assert [datetime.fromtimestamp(each.raised_at, UTC).day for each in done.alarms] == [21]
    line = rehearsals.line_of(rule, port.pk, start, NOW, learning.over)
    assert line.band is not None and len(line.band.usual) == len(line.at) == len(line.band.high[0])
    noon = line.at.index((NOW - timedelta(days=3, hours=12)).timestamp())
    assert line.band.usual[noon] == pytest.approx(51, abs=2) and line.value[noon] == pytest.approx(51, abs=2)
    assert line.band.high[0][noon] > 55 and line.band.low[0][noon] is None


def test_it_is_learned_once_a_day_and_looked_at_live(port, quick):
    Rule.objects.all().delete()
    rule_of("learned", 6, "outside")
    now = NOW + timedelta(minutes=10)
    assert learning.renew(now) == 1 and learning.renew(now) == 0
    assert learning.renew(now + timedelta(days=1)) == 1
    kept = Baseline.objects.get()
    assert (kept.subject, kept.weeks) == (port.pk, 4)
    known, ranges = baselines.load("load", Reference.LEARNED, [port.pk, 10**9])
    assert known == [port.pk] and ranges.median.shape == (1, 168)
    watch = Watch()
    in_force = rules.in_force()
    watch.renew(in_force, exceptions.narrowed(in_force))
    watch.put("interface", np.array([0]), np.array([port.pk]), np.array([port.device_id]))
    watch.renew_baselines()
    said = []
    for minute, share in enumerate([0.1, 0.6, 0.6, 0.6, 0.1]):
        batch, octets = Batch(), int(share * SPEED / 8 * 60)
        columns = {name: np.array([value]) for name, value in (("in_octets", octets), ("elapsed_ms", 60_000))}
        counts = Counts.of(
            columns, np.array([float(SPEED)]), np.array([float(SPEED)]), interface=np.array([port.pk]), seconds=60
        )
        at = np.array([(NOW + timedelta(hours=3, minutes=minute)).timestamp()])
        watch.look(batch, "interface", counts, at, np.array([60.0]), slots=np.array([0]))
        said += [each.facts.sentence() for each in batch.transitions]
    assert len(said) == 2 and said[0].startswith("Utilisation 60 %, above its usual range of")
    assert said[1].startswith("Utilisation back to 10 %, near what is normal (10")


def test_what_nobody_watches_any_more_is_forgotten(port, quick):
    Rule.objects.all().delete()
    rule = rule_of("learned", 6)
    assert learning.renew(NOW) == 1
    rules.change(rule.pk, {"enabled": False}, "anna")
    for days, left in ((1, 1), (7, 1), (8, 0)):
        assert learning.renew(NOW + timedelta(days=days)) == 0
        assert Baseline.objects.count() == left, days


def test_collectors_read_what_is_normal_only_when_it_is_another(port, quick, django_assert_num_queries):
    Rule.objects.all().delete()
    rule_of("", 0.5, measure="unanswered")
    known, read = RulesInForce(), []

    def looks(devices=1):
        known.load()
        before = len(read)
        known.renew_ranges(devices, lambda: read.append(1))
        return len(read) - before

    assert (looks(), looks()) == (1, 0)
    with django_assert_num_queries(0):
        known.renew_ranges(1, lambda: read.append(1))
    rule_of("learned", 6)
    assert (looks(), looks()) == (1, 0), "another rule"
    assert learning.renew(NOW) == 1 and (looks(), looks()) == (1, 0), "learned"
    assert (looks(2), looks(2)) == (1, 0), "other devices"
    learning.renew(NOW + timedelta(days=1))

    def fails():
        raise OSError("the database is away")

    with pytest.raises(OSError, match="away"):
        known.renew_ranges(2, fails)
    assert (looks(2), looks(2)) == (1, 0), "what failed is done again"


def test_rules_that_are_learned_together_are_both_read(port, quick):
    """The time of the second one is another, or a collector that read between them would miss it."""
    Rule.objects.all().delete()
    rule_of("learned", 6)
    rule_of("yesterday", 200)
    assert learning.renew(NOW) == 2
    assert len(set(Baseline.objects.values_list("learned_at", flat=True))) == 2


def test_too_short_a_history_raises_nothing_and_days_are_left_out(port, quick):
    Rule.objects.all().delete()
    short = rule_of("learned", 6, without=[(NOW - timedelta(days=back)).date().isoformat() for back in range(1, 25)])
    learning.renew(NOW)
    assert Baseline.objects.get().weeks < 2
    assert (
        rehearsals.run(
            rules.as_core(short), [port.pk], NOW - timedelta(days=7), NOW, partial(learning.over, without=short.without)
        ).alarms
        == []
    )
    with pytest.raises(Refusal, match="2026-12-24"):
        rules.change(short.pk, {"without": ["yesterday"]}, "anna")


def test_limits_are_proposed_from_what_there_was(port, quick):
    rule = rules.as_core(rule_of("learned", 6))
    rare, often = learning.tolerances(rule, [port.pk], NOW - timedelta(days=14), NOW, [0.1, 5])
    assert rare > often >= 3
    assert learning.tolerances(rule, [], NOW - timedelta(days=14), NOW, [1]) == [None]
    with pytest.raises(Refusal, match="compares with what is normal"):
        learning.tolerances(rules.as_core(Rule.objects.get(name="Utilisation")), [port.pk], NOW, NOW, [1])
