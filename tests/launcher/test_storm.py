"""Every process is killed once in a storm of raises and clears: the short form of ``./lumtar bench storm``."""

from bench.storm import run

KILLS, SEED = 5, 3


def test_after_a_storm_alarms_messages_and_comments_are_those_of_an_undisturbed_run():
    done, different, counts = run(KILLS, SEED)
    assert dict(done) == dict.fromkeys(("database", "collector", "collector-2", "worker", "web"), 1)
    assert different == []
    assert counts["changes of alarms"] >= 20 and counts["comments answered"] >= 20, "worth the name of a storm"
    assert counts["messages"] >= 5
