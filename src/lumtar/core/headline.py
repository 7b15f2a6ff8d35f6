"""The sentence that opens Now: computed, exact, and right when all is well too."""

from dataclasses import dataclass

from lumtar.core.units import counted, duration


@dataclass(frozen=True, slots=True)
class Cause:
    """One open alarm, as much of it as the sentence needs. ``age`` in seconds."""

    subject: str
    text: str
    age: float


@dataclass(frozen=True, slots=True)
class Standing:
    """The whole network in figures."""

    devices: int
    answering: int
    ports: int
    ports_up: int


@dataclass(frozen=True, slots=True)
class Headline:
    """``strong`` and ``rest`` make the sentence, ``second`` is the line beneath it."""

    strong: str
    rest: str
    second: str


def headline(causes: list[Cause], standing: Standing, past: bool, active: int | None = None) -> Headline:
    """The sentence for the worst of these causes (sorted, worst first), or for a quiet network.

    Parameters
    ----------
    active : how many there are in all, if these are not all of them
    """
    second = (
        f"{standing.answering:,} of {standing.devices:,} devices "
        f"{'answered' if past else 'answer'}; {standing.ports_up:,} of {standing.ports:,} ports in use "
        f"{'were' if past else 'are'} up."
    )
    if not standing.devices:
        return Headline("Nothing is watched yet.", "", "Add a device, and its ports appear here within a minute.")
    if not causes:
        silent = standing.devices - standing.answering
        if silent:
            word = (
                "had not answered" if past else "has not been heard yet" if silent == 1 else "have not been heard yet"
            )
            return Headline(
                counted(silent, "device"),
                f" {word}; nothing else was wrong." if past else f" {word}; nothing else is wrong.",
                second,
            )
        return Headline("All is well." if not past else "All was well.", "", second)
    worst = causes[0]
    others = (len(causes) if active is None else active) - 1
    more = ""
    if others:
        verb = ("was" if others == 1 else "were") if past else ("is" if others == 1 else "are")
        more = f"{counted(others, 'more alarm')} {verb} open. "
    text = worst.text[:1].lower() + worst.text[1:] if worst.text[:1].isalpha() else worst.text
    since = f"for {duration(worst.age)}" if worst.age >= 60 else "since this minute"
    return Headline(worst.subject, f" {text}, {since}.", more + second)
