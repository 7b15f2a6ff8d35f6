"""Who of a team is on duty at a time."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from lumtar.core.calling.hours import Hours, zone_of

LONGEST_TURN_DAYS = 90


@dataclass(frozen=True, slots=True)
class Turns:
    """Members take turns of so many days; the first one's begins at ``start``, local time on the wall of ``zone``."""

    days: int
    start: datetime
    zone: str

    def turn(self, at: datetime) -> int:
        """The number of the turn that a time is in; negative before the first."""
        local = at.astimezone(zone_of(self.zone)).replace(tzinfo=None)
        start = self.start.replace(tzinfo=None)
        return int((local - start).total_seconds() // (self.days * 86_400))


@dataclass(frozen=True, slots=True)
class Substitute:
    """``contact`` stands in for another, from ``start`` until before ``end``."""

    contact: int
    instead_of: int
    start: datetime
    end: datetime


def on_duty(
    members: Sequence[int],
    at: datetime,
    *,
    turns: Turns | None = None,
    hours: Hours | None = None,
    substitutes: Sequence[Substitute] = (),
) -> tuple[int, ...]:
    """Who of a team is called at a time; nobody outside its hours.

    Parameters
    ----------
    members : numbers of contacts, in the order of their turns
    turns : one of them at a time; None is all of them
    substitutes : who stands in for whom; a later one is looked at first, and one may stand in for a substitute
    """
    if not members or (hours is not None and not hours.includes(at)):
        return ()
    chosen = [members[turns.turn(at) % len(members)]] if turns else list(members)
    current = [each for each in reversed(substitutes) if each.start <= at < each.end]
    return tuple(dict.fromkeys(_standing_in(member, current) for member in chosen))


def _standing_in(member: int, current: Sequence[Substitute]) -> int:
    seen = {member}
    while step := next((each for each in current if each.instead_of == member and each.contact not in seen), None):
        member = step.contact
        seen.add(member)
    return member
