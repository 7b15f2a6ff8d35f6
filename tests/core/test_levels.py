"""From which level a range is read."""

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.levels import SECONDS, STEPS, Kept, Level, Piece, cover, step_for

NOW = 2_000_000_000.0
DAY = 86400.0
KEPT = [
    Kept(Level.READINGS, NOW - 14 * DAY),
    Kept(Level.FIVE_MINUTES, NOW - 90 * DAY, NOW - 100),
    Kept(Level.HOURS, NOW - 1000 * DAY, NOW - 100),
    Kept(Level.DAYS, NOW - 3000 * DAY, NOW - 100),
]
MOMENTS = st.floats(NOW - 3500 * DAY, NOW).map(lambda at: float(round(at)))


def levels(*told):
    return [piece.level for piece in cover(*told, KEPT)]


class TestCover:
    @given(MOMENTS, MOMENTS, st.sampled_from(STEPS))
    def test_pieces_lie_one_behind_the_other_on_whole_sums(self, one, other, step):
        start, end = min(one, other), max(one, other)
        pieces = cover(start, end, step, KEPT)
        assert all(first.end == second.start for first, second in pairwise(pieces))
        for piece in pieces:
            length = SECONDS[piece.level]
            assert piece.start < piece.end
            assert not length or piece.start % length == piece.end % length == 0

    @given(MOMENTS, MOMENTS, st.sampled_from(STEPS))
    def test_nothing_of_the_range_is_left_out_where_it_is_kept(self, one, other, step):
        start, end = min(one, other), max(one, other)
        pieces = cover(start, end, step, KEPT)
        if end - start > 2 * DAY and start >= KEPT[0].since:
            assert (pieces[0].start, pieces[-1].end) == (start, end)
        if end - start > 2 * DAY and pieces:
            assert pieces[0].start <= start and pieces[-1].end >= min(end, NOW - DAY)

    @given(MOMENTS, MOMENTS, st.sampled_from(STEPS))
    def test_no_level_is_read_before_it_is_kept(self, one, other, step):
        start, end = min(one, other), max(one, other)
        since = {each.level: each.since for each in KEPT[:3]}
        for piece in cover(start, end, step, KEPT):
            assert piece.end > since.get(piece.level, 0)

    def test_the_coarsest_that_shows_a_step(self):
        assert levels(NOW - DAY, NOW, 60) == [Level.READINGS]
        assert Level.FIVE_MINUTES in levels(NOW - 7 * DAY, NOW, 600)
        assert levels(NOW - 300 * DAY, NOW, 86400)[:2] == [Level.HOURS, Level.DAYS]

    def test_what_is_not_summed_up_yet_is_read_from_what_is_finer(self):
        assert levels(NOW - 40 * DAY, NOW, 86400)[-3:] == [Level.HOURS, Level.FIVE_MINUTES, Level.READINGS]

    def test_old_times_are_rounded_outwards(self):
        start = NOW - 500 * DAY + 1234
        found = cover(start, start + 1800, 60, KEPT)
        assert [piece.level for piece in found] == [Level.HOURS]
        assert found[0].start <= start and found[0].end >= start + 1800

    def test_without_sums_readings_serve_as_long_as_they_are_kept(self):
        fresh = [KEPT[0], *(Kept(each.level, each.since, 0.0) for each in KEPT[1:])]
        assert cover(NOW - DAY, NOW, 86400, fresh) == [Piece(Level.READINGS, NOW - DAY, NOW)]
        assert cover(NOW - 50 * DAY, NOW, 86400, fresh) == []


@given(st.floats(1, 1e9), st.integers(1, 1600))
def test_a_step_is_the_finest_that_fits(span, points):
    step = step_for(span, points)
    assert span / step <= points or step == STEPS[-1]
    finer = [each for each in STEPS if each < step]
    assert not finer or span / finer[-1] > points
