"""A few faults at moments that a seed decides: the short form of ``./lumtar bench faults``."""

from bench.faults import run

FAULTS, SEED, CALM_S = 3, 4, 15.0


def test_after_some_faults_nothing_is_lost_doubled_or_denied():
    done, found, watch = run(FAULTS, SEED, CALM_S)
    assert sum(done.values()) == FAULTS and watch.looks > 10
    assert found == []
