"""Sentences about alarms, made from the facts."""

import pytest

from lumtar.core.alarms.facts import Ended, Exceeded, Said, exceeded, returned, sentence, stored
from lumtar.core.alarms.severity import Severity
from lumtar.core.rules import Hold, Level, Rule

FULL = {"direction": "out", "bps": 281.7e6, "speed_bps": 300e6}
LOAD = Rule(4, "load", (Level(Severity.MINOR, 80, 75), Level(Severity.MAJOR, 90, 80)), Hold(times=3, of=3), revision=2)


@pytest.mark.parametrize(
    ("facts", "words"),
    [
        (exceeded(LOAD, 4, 93.9, FULL), "94 % full outbound: 281.7 Mb/s of 300 Mb/s, for three readings in a row"),
        (returned(LOAD, 4, 71.2, {}), "Back to 71 %, below 75 %"),
        (returned(LOAD, 4, 95.0, {}), "The rule does not apply here any more"),
        (Exceeded("unanswered", 1, 0.5, more={"reason": "no answer on UDP 161 in 3 tries"}), "Does not answer: no answer on UDP 161 in 3 tries"),
        (returned(Rule(1, "unanswered", (Level(Severity.MAJOR, 0.5, 0.5),)), 4, 0, {"silent_s": 240.0}), "Answers again after 4 minutes"),
        (Exceeded("processor", 95.4, 90, seconds=600), "Processor load 95.4 %, above 90 %, for 10 minutes"),
        (Exceeded("temperature", -21, -20, direction="below", times=2, of=5), "Temperature -21 °C, below -20 °C, in 2 of the last 5 readings"),
        (returned(Rule(1, "in", (Level(Severity.MAJOR, 9e8, 8e8),)), 4, 7.5e8, {}), "Inbound rate back to 750 Mb/s, below 800 Mb/s"),
        (Exceeded("volume", 2.5e12, 2e12), "Volume 2.5 TB, above 2 TB"),
        (Exceeded("gone measure", 5, 4), "Value 5, above 4"),
        (Ended("The rule Utilisation was switched off"), "The rule Utilisation was switched off"),
        (Said("Something from before"), "Something from before"),
    ],
)  # fmt: skip
def test_sentences_are_made_from_what_is_stored(facts, words):
    assert sentence(stored(facts)) == words
