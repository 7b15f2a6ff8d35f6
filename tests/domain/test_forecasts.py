"""Forecasts from what days keep."""

from datetime import timedelta

import numpy as np
import pytest

from lumtar.core.forecast import Verdict
from lumtar.domain.inventory.description import SpeedChange, note_speeds
from lumtar.domain.readings import forecasts, partitions, rollups
from lumtar.domain.readings.models import Day
from tests.domain.conftest import NOW

pytestmark = pytest.mark.django_db


def keep(port, inward, outward):
    """Days with these 95th percentiles, the last one being yesterday."""
    today = rollups.day_of(NOW)
    first = today - timedelta(days=len(inward))
    partitions.ensure(first.date(), today.date())
    nothing = {**dict.fromkeys(rollups.SUMMED, 0), "flags": 0}
    Day.objects.bulk_create(
        Day(interface=port, at=first + timedelta(days=n), in_p95_bps=one, out_p95_bps=other, **nothing)
        for n, (one, other) in enumerate(zip(inward, outward, strict=True))
    )


def test_a_port_that_grows_says_when_it_is_full(ports):
    note_speeds([SpeedChange(ports[0].pk, NOW - timedelta(days=100), 10**8, True, 0, 0)])
    growing = 5e7 + 2e5 * (np.arange(70) - 69) + np.random.default_rng(1).normal(0, 2e5, 70)
    keep(ports[0], growing, [1e6] * 70)
    inward, outward = forecasts.of([ports[0].pk], NOW)
    assert (inward.way, inward.verdict, inward.days) == ("in", Verdict.GROWS, 70)
    assert inward.level_percent == pytest.approx(50, abs=1)
    seventy = inward.reached[0]
    assert seventy.share == 70
    assert abs((seventy.on - NOW.date()).days - 100) < 12
    assert seventy.earliest <= seventy.on <= seventy.latest
    assert [each.share for each in inward.reached] == [70, 80, 90, 100]
    assert outward.verdict == Verdict.STEADY and outward.reached == []


def test_without_days_nothing_is_said(ports):
    found = forecasts.of([port.pk for port in ports], NOW)
    assert len(found) == 6 and {each.verdict for each in found} == {Verdict.SHORT}
    assert forecasts.of([], NOW) == []


def test_what_came_later_does_not_count_at_a_past_time(ports):
    keep(ports[0], [1e6] * 60, [1e6] * 60)
    assert forecasts.of([ports[0].pk], NOW - timedelta(days=40))[0].days == 20
