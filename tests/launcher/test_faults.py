"""The short forms of ``./lumtar bench faults`` and ``storm``; in one file, for their devices answer at the same addresses."""

from bench import faults, storm


def test_after_some_faults_nothing_is_lost_doubled_or_denied():
    count = 3
    done, found, watch = faults.run(count, seed=4, calm_s=15.0)
    assert sum(done.values()) == count and watch.looks > 10
    assert found == []


def test_after_a_storm_alarms_messages_and_comments_are_those_of_an_undisturbed_run():
    done, different, counts = storm.run(5, 3)
    assert dict(done) == dict.fromkeys(("database", "collector", "collector-2", "worker", "web"), 1)
    assert different == []
    assert counts["changes of alarms"] >= 20 and counts["comments answered"] >= 20, "worth the name of a storm"
    assert counts["messages"] >= 5
