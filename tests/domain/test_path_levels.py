"""Minutes, five minutes, hours and days of paths: whatever is joined already, each minute is read once."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from django.db import transaction
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lumtar.domain.paths import jobs, levels, store

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(second=0, microsecond=0)
MIDNIGHT = NOW.replace(hour=0, minute=0)
MINUTE, DAY = timedelta(minutes=1), timedelta(days=1)


@pytest.fixture
def tables():
    for table in levels.LEVELS:
        table.ensure(NOW - 4 * DAY, NOW + DAY)


def told(at, path=1, sent=60, ms=20.0, table=store.MINUTES):
    row = np.zeros(1, store.ROW)
    row["path"], row["at"], row["sent"] = path, at.timestamp(), sent
    for name in store.FLOATS:
        row[name] = 1000 * ms
    store.append(row, table=table)


def sent(start, end, step_s, path=1):
    return int(levels.read_span([path], start, end, step_s)["sent"].sum())


at = st.integers(-3 * 1440, -1)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(
    early=st.lists(at, min_size=1, max_size=8, unique=True), late=st.lists(at, max_size=4, unique=True),
    joined=st.integers(-1440, 0), span=st.tuples(at, at), step=st.sampled_from((60, 300, 1000, 3600, 86_400, 10**7)),
)  # fmt: skip
def test_each_minute_is_read_once_whatever_is_joined(tables, early, late, joined, span, step):
    with transaction.atomic():
        places = dict.fromkeys(early)
        for number, minute in enumerate(places):
            told(NOW + minute * MINUTE, sent=1 + number)
        levels.work_off(NOW + joined * MINUTE)
        late = [minute for minute in late if minute not in places]
        for number, minute in enumerate(late, len(places)):
            told(NOW + minute * MINUTE, sent=1 + number)
        first, last = min(span), max(span)
        expected = sum(1 + number for number, minute in enumerate((*places, *late)) if first <= minute < last)
        assert sent(NOW + first * MINUTE, NOW + last * MINUTE, step) == expected
        transaction.set_rollback(True)


def test_a_long_time_is_read_from_long_intervals(tables):
    for minute in range(2 * 1440):
        told(MIDNIGHT - 2 * DAY + minute * MINUTE)
    levels.work_off(NOW)
    assert [len(levels.read_span([1], MIDNIGHT - 2 * DAY, MIDNIGHT, step)) for step in (60, 300, 3600, DAY.total_seconds())] == [
        2880, 576, 48, 2,
    ]  # fmt: skip
    # An hour and a half at each end is no whole day.
    rows = levels.read_span([1], MIDNIGHT - 2 * DAY - 90 * MINUTE, MIDNIGHT - 90 * MINUTE, 86_400)
    assert len(rows) == 1 + 22 + 6 and rows["sent"].sum() == 60 * (2880 - 90)


def test_what_comes_late_is_joined_by_the_next_run_of_the_job(tables):
    hour = NOW.replace(minute=0) - timedelta(hours=7)
    told(hour + 3 * MINUTE)
    jobs.join_path_minutes(timestamp=0)
    told(hour + 4 * MINUTE, ms=40)
    assert sent(hour, hour + timedelta(hours=1), 3600) == 120, "it is read at once"
    jobs.join_path_minutes(timestamp=0)
    (row,) = store.read([1], hour, hour + timedelta(hours=1), store.HOURS)
    assert (row["sent"], row["mean"], row["longest"]) == (120, 30_000, 40_000)


def test_where_minutes_are_kept_no_longer_hours_are_read(tables):
    long_ago = NOW.replace(minute=0) - store.MINUTES.kept - 5 * DAY
    store.HOURS.ensure(long_ago, long_ago)
    told(long_ago, sent=3600, table=store.HOURS)
    start, end = long_ago + 10 * MINUTE, long_ago + 50 * MINUTE
    assert levels.width_of(start, end) == 3600 and sent(start, end, 60) == 3600
    told(NOW - 3 * MINUTE)
    assert sent(start, NOW, levels.width_of(start, NOW)) == 3660, "with what is not joined yet"
