"""The sections of a set-up about what becomes an alarm, and when nobody is called for one."""

from collections.abc import Mapping

from django.utils import timezone

from lumtar.core.measures import measure_of
from lumtar.core.refusal import Refusal
from lumtar.domain.alarms import exceptions, maintenance, rules
from lumtar.domain.alarms.models import Maintenance, Rule
from lumtar.domain.calling import plans
from lumtar.domain.calling.models import CallPlan
from lumtar.domain.inventory.models import Group, Site
from lumtar.domain.setup import subjects
from lumtar.domain.setup.section import Plain, Section, edition_of, number_of, numbers_of, time_of


class Rules(Section):
    """What becomes an alarm, and who is called."""

    key = "rules"
    blank: Plain = {
        "measure": "", "statistic": "value", "window_s": 0, "scope": "", "enabled": True, "direction": "above", "reference": "",
        "without": [], "hours": "", "zone": "UTC", "levels": [], "hold_s": 0, "times": 1, "of": 1, "raise_text": "", "clear_text": "",
        "instructions": "", "plan": None, "exceptions": [],
    }  # fmt: skip
    same = tuple(name for name in blank if name not in ("plan", "exceptions"))

    def read(self) -> list[Plain]:
        """All rules."""
        return [
            {
                "name": rule.name,
                **{name: getattr(rule, name) for name in self.same},
                "plan": rule.plan.name if rule.plan else None,
                "exceptions": self._exceptions(rule),
            }
            for rule in Rule.objects.select_related("plan").prefetch_related("exceptions").order_by("pk")
        ]

    def upgraded(self, entry: Plain, by: str) -> Plain:
        """Earlier versions had addresses instead of a plan, and two directions."""
        entry = dict(entry)
        if "above" in entry:
            entry["direction"] = "above" if entry.pop("above") else "below"
        if "mail_to" not in entry:
            return entry
        addresses = entry.pop("mail_to")
        return {**entry, "plan": plans.for_mail(addresses, by).name if addresses else None}

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a rule."""
        wanted = {name: entry[name] for name in ("name", *self.same)}
        wanted["plan_id"] = number_of(CallPlan, entry["plan"], "call plan")
        if is_new:
            rule = rules.create(wanted, by)
        else:
            rule = rules.change(Rule.objects.get(name=entry["name"]).pk, wanted, by)
        self._except(rule, entry["exceptions"], by)

    @staticmethod
    def _exceptions(rule: Rule) -> list[Plain]:
        """Those of a rule, by what their subjects are called; without those whose subject is gone."""
        stored = {each.subject: each for each in rule.exceptions.all()}
        named = subjects.named(measure_of(rule.measure).subject, stored) if stored else {}
        return [
            {"of": of, "levels": stored[pk].levels, "reason": stored[pk].reason}
            for pk, of in sorted(named.items(), key=lambda each: tuple(each[1].values()))
        ]

    @staticmethod
    def _except(rule: Rule, given: list[Plain], by: str) -> None:
        wanted = {}
        for each in given:
            if not isinstance(each, Mapping) or not set(each) <= {"of", "levels", "reason"} or "of" not in each:
                raise Refusal("An exception has the subject that it is of, levels and a reason.")
            subject = subjects.number(measure_of(rule.measure).subject, each["of"])
            wanted[subject] = (each.get("levels", []), str(each.get("reason", "")))
        subjects.differences(
            {each.subject: (each.levels, each.reason) for each in rule.exceptions.all()},
            wanted,
            lambda subject, value: exceptions.except_from(rule.pk, subject, value[0], value[1], by),
            lambda subject: exceptions.end_exception(rule.pk, subject, by),
        )


class Maintenances(Section):
    """When alarms of a part of the network call nobody. What is over and does not come again is left out."""

    key = "maintenance"
    blank: Plain = {
        "start": "", "end": "", "reason": "", "repeats": "", "zone": "UTC", "sites": [], "groups": [], "devices": [], "ports": [],
    }  # fmt: skip

    def read(self) -> list[Plain]:
        """All that go on or come."""
        rows = Maintenance.objects.exclude(span_end=None).exclude(span_end__lte=timezone.now()).order_by("name")
        return [self._plain(row) for row in rows.prefetch_related("sites", "groups", "devices", "interfaces")]

    def _plain(self, row: Maintenance) -> Plain:
        return {
            "name": row.name,
            "start": row.start.isoformat(),
            "end": row.end.isoformat(),
            **{name: getattr(row, name) for name in ("reason", "repeats", "zone")},
            "sites": sorted(each.name for each in row.sites.all()),
            "groups": sorted(each.name for each in row.groups.all()),
            "devices": subjects.listed("device", row.devices.all()),
            "ports": subjects.listed("interface", row.interfaces.all()),
        }

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Plan one, or change one."""
        spec = maintenance.MaintenanceSpec(
            **{name: entry[name] for name in ("name", "reason", "repeats", "zone")},
            start=time_of(entry["start"]),
            end=time_of(entry["end"]),
            sites=numbers_of(Site, entry["sites"], "site"),
            groups=numbers_of(Group, entry["groups"], "group"),
            devices=[subjects.number("device", each) for each in entry["devices"]],
            interfaces=[subjects.number("interface", each) for each in entry["ports"]],
        )
        known = Maintenance.objects.filter(name=entry["name"]).exists()
        maintenance.save(spec, by, **(edition_of(Maintenance, entry["name"]) if known else {}))
