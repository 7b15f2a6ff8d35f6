"""Teams: who is in them, whose turn it is, and who stands in."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from django.db import transaction

from lumtar.core.calling import Hours, Substitute, Turns, on_duty, zone_of
from lumtar.core.calling.duty import LONGEST_TURN_DAYS
from lumtar.core.refusal import Refusal
from lumtar.domain.calling.models import CallPlan, Contact, Member, Substitution, Team
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.editing import claim, mark
from lumtar.domain.operation.services import announce

LONGEST_NAME, MOST_MEMBERS = 80, 100


@dataclass(frozen=True, slots=True)
class TeamSpec:
    """What people say of a team. Without ``turn_days`` all members are called; the first turn begins at ``turn_start``."""

    name: str
    members: Sequence[int] = ()
    zone: str = "UTC"
    hours: str = ""
    turn_days: int = 0
    turn_start: datetime | None = None
    substitutes: Sequence[Substitute] = ()


@transaction.atomic
def save(spec: TeamSpec, by: str, pk: int | None = None, edition: int = 0) -> Team:
    """Keep a new team or a changed one.

    Raises
    ------
    Refusal, Stale, Team.DoesNotExist
    """
    name = spec.name.strip()
    if not 1 <= len(name) <= LONGEST_NAME:
        raise Refusal(f"A team's name has 1 to {LONGEST_NAME} characters.", "name")
    Hours.of(spec.hours, spec.zone)
    if not 0 <= spec.turn_days <= LONGEST_TURN_DAYS:
        raise Refusal(f"A turn has 1 to {LONGEST_TURN_DAYS} days; 0 calls all members.", "turn_days")
    if spec.turn_days and spec.turn_start is None:
        raise Refusal("Say when the first turn begins.", "turn_start")
    members = list(dict.fromkeys(spec.members))
    if len(members) > MOST_MEMBERS:
        raise Refusal(f"A team has at most {MOST_MEMBERS} members.", "members")
    _check_contacts([*members, *(each.contact for each in spec.substitutes)])
    for each in spec.substitutes:
        if each.instead_of not in members:
            raise Refusal("Somebody can only stand in for a member of the team.", "substitutes")
        if each.end <= each.start:
            raise Refusal("A substitution ends after it begins.", "substitutes")
    team = Team() if pk is None else claim(Team, pk, edition)
    team.name, team.zone, team.hours = name, spec.zone.strip(), spec.hours.strip()
    team.turn_days, team.turn_start = spec.turn_days, spec.turn_start if spec.turn_days else None
    mark(team, by)
    team.places.all().delete()
    Member.objects.bulk_create(Member(team=team, contact_id=each, place=place) for place, each in enumerate(members))
    team.substitutions.all().delete()
    Substitution.objects.bulk_create(
        Substitution(team=team, contact_id=s.contact, instead_of_id=s.instead_of, start=s.start, end=s.end)
        for s in spec.substitutes
    )
    note_action(f"team {team.name} {'created' if pk is None else 'changed'}", by)
    announce("calling")
    return team


def _check_contacts(numbers: Sequence[int]) -> None:
    there = set(Contact.objects.filter(pk__in=numbers).values_list("pk", flat=True))
    if missing := [number for number in numbers if number not in there]:
        raise Refusal(f"There is no contact {missing[0]}; it may have been deleted meanwhile.", "members")


@transaction.atomic
def delete(pk: int, by: str) -> None:
    """Delete a team that no call plan names.

    Raises
    ------
    Refusal, Team.DoesNotExist
    """
    team = Team.objects.select_for_update().get(pk=pk)
    if uses := [f"the call plan {plan}" for plan in CallPlan.objects.filter(steps__teams=team).distinct()]:
        raise Refusal(f"{team.name} is named by {', '.join(uses[:5])}; take it out of there first.")
    team.delete()
    note_action(f"team {team.name} deleted", by)
    announce("calling")


def called(team: Team, at: datetime) -> tuple[int, ...]:
    """The contacts of a team who are called at a time. Its places and substitutions are best fetched with it."""
    turns = None
    if team.turn_days and team.turn_start:
        turns = Turns(team.turn_days, team.turn_start.astimezone(zone_of(team.zone)), team.zone)
    return on_duty(
        [place.contact_id for place in team.places.all()],
        at,
        turns=turns,
        hours=Hours.of(team.hours, team.zone),
        substitutes=[Substitute(s.contact_id, s.instead_of_id, s.start, s.end) for s in team.substitutions.all()],
    )
