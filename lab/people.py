"""The people of the demonstration: who is called, by what, in which steps."""

from datetime import UTC, datetime

from lumtar.core.calling import Substitute
from lumtar.domain.calling import contacts, plans, teams
from lumtar.domain.calling.contacts import AddressSpec, ContactSpec
from lumtar.domain.calling.models import CallPlan
from lumtar.domain.calling.plans import PlanSpec, StepSpec
from lumtar.domain.calling.teams import TeamSpec

BY = "demonstration"
ZONE = "Europe/London"


def fill(sinks: int = 8474) -> CallPlan:
    """Make the contacts, teams and call plans; the plan for what must not wait comes back.

    Parameters
    ----------
    sinks : the port on which the stand-in receivers of messages listen
    """

    def contact(name: str, *addresses: tuple[str, dict[str, str]], quiet: str = "") -> int:
        specs = [AddressSpec(channel, target) for channel, target in addresses]
        return contacts.save(ContactSpec(name, ZONE, quiet, addresses=specs), BY).pk

    def mail(name: str) -> tuple[str, dict[str, str]]:
        return "mail", {"address": f"{name}@oskelund.example"}

    def hook(path: str) -> tuple[str, dict[str, str]]:
        return "service", {"url": f"json://127.0.0.1:{sinks}/{path}"}

    anna = contact("Anna Brandt", mail("anna"), hook("sms/anna"))
    bert = contact("Bert Holm", mail("bert"), hook("sms/bert"))
    cleo = contact("Cleo Marsh", mail("cleo"), hook("sms/cleo"), quiet="22:00-06:30")
    desk = contact("Network desk", mail("desk"), hook("chat/network"))
    lead = contact("Dora Lindt, head of networks", mail("dora"), quiet="21:00-07:00, Sat-Sun")
    archive = contact(
        "Alarm archive",
        ("syslog", {"target": f"udp://127.0.0.1:{sinks + 1}"}),
        ("trap", {"target": f"127.0.0.1:{sinks + 2}", "community": "archive"}),
    )
    monday = datetime(2026, 1, 5, 8, 0, tzinfo=UTC)
    on_duty = teams.save(
        TeamSpec(
            "On duty",
            [anna, bert, cleo],
            ZONE,
            turn_days=7,
            turn_start=monday,
            substitutes=[
                Substitute(anna, cleo, datetime(2026, 12, 21, 8, tzinfo=UTC), datetime(2026, 12, 28, 8, tzinfo=UTC))
            ],
        ),
        BY,
    ).pk
    office = teams.save(TeamSpec("Network office", [desk], ZONE, "Mon-Fri 08:00-18:00"), BY).pk
    plans.save(
        PlanSpec(
            "Office hours",
            [StepSpec(contacts=[archive]), StepSpec(teams=[office])],
            on_clear=False,
        ),
        BY,
    )
    return plans.save(
        PlanSpec(
            "Day and night",
            [
                StepSpec(contacts=[desk, archive]),
                StepSpec(teams=[on_duty], channels=["mail", "service"], from_severity=4, times=3, repeat_s=900),
                StepSpec(after_s=2700, contacts=[lead], from_severity=5),
            ],
            raise_subject="{{ alarm.label }}: {{ alarm.text }} [{{ alarm.severity }}]",
        ),
        BY,
    )
