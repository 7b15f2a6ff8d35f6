"""The sections of a set-up about who is called."""

from collections.abc import Mapping

from lumtar.core.calling import Substitute
from lumtar.core.refusal import Refusal
from lumtar.domain.calling import contacts, plans, teams
from lumtar.domain.calling.models import CallPlan, Contact, Team
from lumtar.domain.setup.section import Plain, Section, edition_of, numbers_of, time_of


class Contacts(Section):
    """Who can be called. What of an address is secret never leaves Lumtar."""

    key = "contacts"
    blank: Plain = {"zone": "UTC", "quiet": "", "quiet_from": 5, "addresses": []}

    def read(self) -> list[Plain]:
        """All contacts."""
        return [
            {
                "name": contact.name, "zone": contact.zone, "quiet": contact.quiet, "quiet_from": contact.quiet_from,
                "addresses": [
                    {"channel": a.channel, "shown": a.shown, "enabled": a.enabled, "target": contacts.open_fields(a)}
                    for a in contact.addresses.all()
                ],
            }
            for contact in Contact.objects.prefetch_related("addresses")
        ]  # fmt: skip

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a contact. An address with secrets has to be there already: only a person can enter them."""
        there = [] if is_new else list(Contact.objects.get(name=entry["name"]).addresses.all())
        wanted = []
        for given in entry["addresses"]:
            if not isinstance(given, Mapping) or "channel" not in given:
                raise Refusal("An address has a channel and a target.")
            target = given.get("target") or {}
            same = next(
                (a for a in there if a.channel == given["channel"]
                 and (a.shown == given.get("shown") or (target and contacts.open_fields(a) == target))),
                None,
            )  # fmt: skip
            if same is not None:
                there.remove(same)
            wanted.append(
                contacts.AddressSpec(
                    str(given["channel"]), target, bool(given.get("enabled", True)), same.pk if same else None
                )
            )
        spec = contacts.ContactSpec(entry["name"], entry["zone"], entry["quiet"], entry["quiet_from"], wanted)
        known = {} if is_new else edition_of(Contact, entry["name"])
        contacts.save(spec, by, known.get("pk"), known.get("edition", 0))


class Teams(Section):
    """Who is on duty."""

    key = "teams"
    blank: Plain = {
        "members": [], "zone": "UTC", "hours": "", "turn_days": 0, "turn_start": None, "substitutes": [],
    }  # fmt: skip

    def read(self) -> list[Plain]:
        """All teams."""
        return [
            {
                "name": team.name, "zone": team.zone, "hours": team.hours, "turn_days": team.turn_days,
                "turn_start": team.turn_start.isoformat() if team.turn_start else None,
                "members": [place.contact.name for place in team.places.select_related("contact")],
                "substitutes": [
                    {
                        "contact": each.contact.name, "instead_of": each.instead_of.name,
                        "start": each.start.isoformat(), "end": each.end.isoformat(),
                    }
                    for each in team.substitutions.select_related("contact", "instead_of")
                ],
            }
            for team in Team.objects.all()
        ]  # fmt: skip

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a team."""
        substitutes = []
        for each in entry["substitutes"]:
            contact, instead_of = numbers_of(Contact, [each["contact"], each["instead_of"]], "contact")
            substitutes.append(Substitute(contact, instead_of, time_of(each["start"]), time_of(each["end"])))
        spec = teams.TeamSpec(
            entry["name"],
            numbers_of(Contact, entry["members"], "contact"),
            entry["zone"],
            entry["hours"],
            entry["turn_days"],
            time_of(entry["turn_start"]) if entry["turn_start"] else None,
            substitutes,
        )
        teams.save(spec, by, **({} if is_new else edition_of(Team, entry["name"])))


class CallPlans(Section):
    """Who is called in which steps, and with which words."""

    key = "call_plans"
    blank: Plain = {"steps": [], "on_worse": True, "on_clear": True, **dict.fromkeys(plans.TEXTS, "")}
    blank_step: Plain = {
        "after_s": 0, "times": 1, "repeat_s": 0, "from_severity": 1, "channels": [], "contacts": [], "teams": [],
    }  # fmt: skip

    def read(self) -> list[Plain]:
        """All call plans."""
        same = ("name", "on_worse", "on_clear", *plans.TEXTS)
        return [
            {
                **{name: getattr(plan, name) for name in same},
                "steps": [
                    {
                        **{name: getattr(step, name) for name in self.blank_step if name not in ("contacts", "teams")},
                        "contacts": [each.name for each in step.contacts.all()],
                        "teams": [each.name for each in step.teams.all()],
                    }
                    for step in plan.steps.prefetch_related("contacts", "teams")
                ],
            }
            for plan in CallPlan.objects.all()
        ]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a call plan."""
        steps = []
        for given in entry["steps"]:
            if unknown := sorted(set(given) - set(self.blank_step)):
                raise Refusal(f"A step has no field {unknown[0]!r}; there are {', '.join(self.blank_step)}.")
            step = {**self.blank_step, **given}
            step["contacts"] = numbers_of(Contact, step["contacts"], "contact")
            step["teams"] = numbers_of(Team, step["teams"], "team")
            steps.append(plans.StepSpec(**step))
        spec = plans.PlanSpec(**{**entry, "steps": steps})
        plans.save(spec, by, **({} if is_new else edition_of(CallPlan, entry["name"])))
