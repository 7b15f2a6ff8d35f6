"""Forecasts from what days keep."""

from datetime import timedelta

import numpy as np
import pytest

from lumtar.core import percentiles
from lumtar.core.forecast import Verdict
from lumtar.domain.inventory.description import SpeedChange, note_speeds
from lumtar.domain.readings import forecasts, partitions, rollups
from lumtar.domain.readings.models import Day
from tests.domain.conftest import NOW

pytestmark = pytest.mark.django_db


def keep(port, inward, outward, means=None):
    """Days with these 95th percentiles, and means if they are given, the last one being yesterday."""
    today = rollups.day_of(NOW)
    first = today - timedelta(days=len(inward))
    partitions.ensure(first.date(), today.date())
    nothing = {**dict.fromkeys(rollups.SUMMED, 0), "flags": 0}
    Day.objects.bulk_create(
        Day(
            interface=port,
            at=first + timedelta(days=n),
            in_p95_bps=one,
            out_p95_bps=other,
            in_means=means and means[n],
            out_means=means and means[n],
            **nothing,
        )
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


def test_what_ports_carry_together_is_forecast_from_their_totals(ports):
    """One is busy in the mornings, the other in the evenings: their 95th percentiles do not add up."""
    for port in ports[:2]:
        note_speeds([SpeedChange(port.pk, NOW - timedelta(days=100), 10**8, True, 0, 0)])
    first, second = np.full(288, 1e6), np.full(288, 1e6)
    first[:144], second[144:] = 4e7, 4e7
    for port, shape in zip(ports[:2], (first, second), strict=True):
        told = [percentiles.encode(shape * (1 + 0.001 * n)).astype("<u2").tobytes() for n in range(60)]
        keep(port, [4e7] * 60, [4e7] * 60, told)
    inward, outward = forecasts.together([port.pk for port in ports[:2]], NOW)
    assert (inward.way, outward.way, inward.interface_id) == ("in", "out", 0)
    assert inward.speed_bps == 2e8
    assert inward.level_bps == pytest.approx(4.1e7 * 1.059, rel=0.002), "not twice as much"
    assert inward.verdict == Verdict.GROWS and inward.slope_bps == pytest.approx(4.1e4, rel=0.02)
    assert forecasts.together([], NOW) == []


def test_a_total_without_some_of_its_ports_does_not_count():
    totals, measured = np.full((3, 288), 10.0), np.full((3, 288), 10)
    measured[0, :100], totals[0, :100] = 5, 5.0
    measured[1, :200], totals[1, :200] = 5, 5.0
    measured[2], totals[2] = 0, 0.0
    found = percentiles.daily_of_totals(totals, measured)
    assert found[0] == 10.0 and np.isnan(found[1:]).all()
