"""Was it the network? The answer that follows from what was found on the way between two ends."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum


class Side(StrEnum):
    """Whose matter a finding is."""

    NETWORK = "network"
    SERVICE = "service"
    NEITHER = "neither"
    """It happened, or was as usual, and blames nobody."""


class Answer(StrEnum):
    """Whether it was the network."""

    YES = "yes"
    NO = "no"
    BOTH = "both"
    NOTHING = "nothing"
    """Nothing was out of the ordinary where it was looked at."""
    UNKNOWN = "unknown"
    """Too little was measured."""


@dataclass(frozen=True, slots=True)
class Finding:
    """Something on the way, while it mattered.

    Attributes
    ----------
    what : of which kind it is, such as load, errors, alarm, path, answers, change
    words : a sentence without its full stop
    start, end : seconds of the epoch
    weight : how much it explains, 0 to 1; what only stands beside has 0
    page : where more of it is shown
    """

    what: str
    side: Side
    words: str
    start: float
    end: float
    weight: float = 0.0
    page: str = ""


@dataclass(frozen=True, slots=True)
class Verdict:
    """The answer, in a sentence, with what speaks for it, the weightiest first."""

    answer: Answer
    sentence: str
    reasons: Sequence[Finding]


CLEAR = 0.15
"""If the weightiest finding of one side is ahead by so much the other side is left out of the answer."""


def verdict(findings: Sequence[Finding], usual: Sequence[str]) -> Verdict:
    """Weigh findings.

    Parameters
    ----------
    usual : what was measured and as it always is, each in a sentence without its full stop
    """
    told = sorted((each for each in findings if each.weight > 0), key=lambda each: -each.weight)
    network = [each for each in told if each.side is Side.NETWORK]
    service = [each for each in told if each.side is Side.SERVICE]
    calm = f" {_upper(usual[0])}." if usual else ""
    if network and service and abs(network[0].weight - service[0].weight) < CLEAR:
        words = f"Both: {network[0].words}; and {service[0].words}."
        return Verdict(Answer.BOTH, words, told)
    if network and not (service and service[0].weight > network[0].weight):
        # What follows from the cause is told with it, if it was measured otherwise.
        effect = next((each for each in network[1:] if each.what != network[0].what), None)
        return Verdict(Answer.YES, f"Yes: {network[0].words}{f'; {effect.words}' if effect else ''}.", told)
    if service:
        return Verdict(Answer.NO, f"No: {service[0].words}.{calm}", told)
    if usual:
        return Verdict(
            Answer.NOTHING, f"Nothing on the way was out of the ordinary, as far as it was seen.{calm}", told
        )
    return Verdict(Answer.UNKNOWN, "It cannot be told: nothing was measured between the two in this time.", told)


def _upper(words: str) -> str:
    return words[:1].upper() + words[1:]


def spans(at: Sequence[float], is_so: Sequence[bool], step: float, pause: float = 0.0) -> list[tuple[float, float]]:
    """From when to when something was so, from moments that each stand for the step before them.

    Parameters
    ----------
    pause : seconds for which it may be otherwise in between
    """
    found: list[tuple[float, float]] = []
    for moment, so in zip(at, is_so, strict=True):
        if not so:
            continue
        if found and moment - step <= found[-1][1] + pause + step / 2:
            found[-1] = (found[-1][0], moment)
        else:
            found.append((moment - step, moment))
    return found
