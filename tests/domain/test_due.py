"""Periods that are due to be summed up: none is left out, and none is summed up before what belongs to it can be seen."""

import threading
import time
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from django.db import connection, transaction

from lumtar.domain.operation import due
from lumtar.domain.operation.models import DueSum, JobRun

HOUR, FIVE = timedelta(hours=1), timedelta(minutes=5)
NOW = datetime(2026, 11, 26, 22, 30, tzinfo=UTC)
HOURS, FIVES = due.Sums("things: hours", HOUR), due.Sums("things: five minutes", FIVE)


def noted(*ago):
    due.note([HOURS, FIVES], np.array([(NOW - each).timestamp() for each in ago]))


@pytest.fixture
def summed():
    return []


@pytest.mark.django_db
class TestOne:
    def test_a_period_is_due_once_however_often_something_is_appended(self):
        noted(timedelta(), timedelta(minutes=1), timedelta(minutes=29))
        noted(timedelta(minutes=2))
        assert due.within(HOURS, NOW - HOUR, NOW) == [NOW.replace(minute=0)]
        assert due.within(FIVES, NOW - HOUR, NOW + FIVE) == [NOW.replace(minute=minute) for minute in (0, 25, 30)]

    def test_what_is_over_is_summed_up_the_oldest_first_and_once(self, summed):
        noted(timedelta(), 3 * HOUR, 9 * HOUR)
        for _ in range(2):
            due.work_off(HOURS, NOW, timedelta(days=1), lambda at: summed.append(at) or 1)
        assert summed == [NOW.replace(hour=13, minute=0), NOW.replace(hour=19, minute=0)]
        assert due.within(HOURS, NOW - HOUR, NOW) == [NOW.replace(minute=0)], "which is not over"
        assert DueSum.objects.filter(what=FIVES.name).count() == 3, "others are another's"

    def test_what_came_late_makes_it_due_again(self, summed):
        for _ in range(2):
            noted(3 * HOUR)
            assert due.work_off(HOURS, NOW, timedelta(days=1), lambda at: summed.append(at) or 7) == 7
        assert len(summed) == 2

    def test_of_which_only_a_part_is_left_stays_as_it_was(self, summed):
        noted(50 * HOUR, 3 * HOUR)
        due.work_off(HOURS, NOW, 2 * timedelta(days=1), lambda at: summed.append(at) or 1)
        assert summed == [NOW.replace(hour=19, minute=0)] and not DueSum.objects.filter(what=HOURS.name).exists()

    def test_who_has_no_patience_left_goes_on_at_the_next_turn(self, summed, monkeypatch):
        noted(3 * HOUR)
        monkeypatch.setattr(due, "PATIENCE_S", -1)
        assert due.work_off(HOURS, NOW, timedelta(days=1), lambda at: summed.append(at) or 1) == 0
        assert not summed and DueSum.objects.filter(what=HOURS.name).exists()


@pytest.mark.django_db(transaction=True)
class TestTogether:
    def test_what_could_not_be_summed_up_stays_due(self):
        noted(3 * HOUR)

        def fails(at):
            JobRun.objects.create(task="half of it", every_s=1)
            raise ZeroDivisionError

        with pytest.raises(ZeroDivisionError):
            due.work_off(HOURS, NOW, timedelta(days=1), fails)
        assert DueSum.objects.filter(what=HOURS.name).exists() and not JobRun.objects.exists()

    def test_who_sums_up_waits_for_what_is_just_appended(self, summed):
        noted(3 * HOUR)

        def work():
            try:
                due.work_off(HOURS, NOW, timedelta(days=1), lambda at: summed.append(JobRun.objects.count()) or 1)
            finally:
                connection.close()

        working = threading.Thread(target=work)
        with transaction.atomic():
            JobRun.objects.create(task="what is appended", every_s=1)
            noted(3 * HOUR)
            working.start()
            until = time.monotonic() + 30
            while not somebody_waits():
                assert time.monotonic() < until and working.is_alive()
                time.sleep(0.05)
            assert not summed
        working.join(20)
        assert summed == [1], "it sees what was appended"


def somebody_waits():
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_stat_clear_snapshot()")
        cursor.execute("SELECT 1 FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock'")
        return cursor.fetchone()
