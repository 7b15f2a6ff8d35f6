"""What is at the other end of ports, in lists and conditions; sites that fell silent; calls that name the cause."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from django.conf import settings

import lumtar.domain
from lumtar.core.topology import End, Identifier
from lumtar.core.topology import Neighbour as Told
from lumtar.core.topology.identifiers import IdKind
from lumtar.domain.alarms import messages, power
from lumtar.domain.alarms.models import Alarm, Consequence, Message, Notification
from lumtar.domain.alarms.services import apply
from lumtar.domain.calling.models import Address
from lumtar.domain.inventory import groups, labelling
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.labelling import LabelRuleSpec
from lumtar.domain.inventory.models import Device, Interface, LabelRule, Profile
from lumtar.domain.inventory.services import add_device
from lumtar.domain.reports import ports
from lumtar.domain.topology import by_hand, looks, queries
from lumtar.domain.topology.looks import Looked
from tests.alarms import plan_for, transition

pytestmark = pytest.mark.django_db
NOW = datetime.now(UTC).replace(microsecond=0) - timedelta(minutes=30)


@pytest.fixture
def pair():
    """A switch and a router of a site; the profile of the router says what it is."""
    made = []
    profile = Profile.objects.create(name="Routers", kind="router", prefixes=["1.3.6.1.4.1.32473.1.99"])
    for number, name in ((1, "sw"), (2, "ro")):
        device = add_device(f"127.0.9.{number}", name=name, site="Hexwater", kind="v2c", secret={"community": "word"})
        Interface.objects.create(device=device, if_index=1, name="x1", label="x1")
        made.append(device)
    Device.objects.filter(name="ro").update(profile=profile)
    return made


def sees(device, *names, minutes=0):
    told = [
        Told(1, "x1", Identifier(IdKind.LOCAL, name), Identifier(IdKind.NAME, "x1"), "", name, "", ("192.0.2.7",))
        for name in names
    ]
    looks.keep(device.pk, Looked(NOW + timedelta(minutes=minutes), 3.0, 5, told))


def beyond():
    return {row.device: row.neighbour for row in ports.find()[0]}


def test_lists_show_who_is_at_the_other_end(pair):
    switch, _ = pair
    sees(switch, "ro")
    assert beyond() == {"sw": "ro", "ro": "sw"}
    sees(switch, "printer", minutes=5)
    assert beyond()["sw"] == "printer", "what is not in the inventory by its own name"
    sees(switch, minutes=10)
    assert beyond() == {"sw": "", "ro": ""}


def test_a_link_by_hand_counts_as_well(pair):
    switch, router = pair
    kept = by_hand.add(*(End(each.pk, Interface.objects.get(device=each).pk) for each in (switch, router)), "", "anna")
    assert beyond() == {"sw": "ro", "ro": "sw"}
    by_hand.remove(kept.pk, "anna")
    assert beyond() == {"sw": "", "ro": ""}


def test_roles_follow_from_neighbours_and_who_decided_is_told(pair):
    switch, _ = pair
    LabelRule.objects.all().delete()
    labelling.save_rule(LabelRuleSpec("Towards routers", 'neighbour_kind is "router"', role="uplink"), "anna")
    sees(switch, "ro")
    port = Interface.objects.get(device=switch)
    assert (port.role, labelling.explain(port.pk).role_by) == ("uplink", "the rule “Towards routers”")
    sees(switch, minutes=5)
    port.refresh_from_db()
    assert port.role != "uplink"


def test_groups_ask_for_neighbours(pair):
    switch, _ = pair
    sees(switch, "ro")
    group = groups.save(GroupSpec("To ro", 'neighbour like "r*"'), "anna")
    assert set(groups.polled_ports(group.pk)) == {Interface.objects.get(device=switch).pk}


def test_what_a_sweep_found_is_known_by_who_sees_it(pair):
    switch, _ = pair
    sees(switch, "new-box")
    assert queries.seen_by(["192.0.2.7"], "") == "sw" and queries.seen_by([], "NEW-BOX") == "sw"
    assert queries.seen_by(["192.0.2.8"], "other") == ""


def silent(*devices, after=0):
    apply(
        transition(each, 5, "Does not answer", at=NOW + timedelta(seconds=after * n)) for n, each in enumerate(devices)
    )


def test_a_site_that_fell_silent_at_once_is_told_as_such(pair):
    silent(*pair, after=60)
    dark = power.dark_sites()
    assert set(dark) == {each.pk for each in pair}
    assert dark[pair[0].pk].sentence().startswith("All two devices of Hexwater fell silent within two minutes")
    assert power.note_of("unreachable", pair[0].pk) and not power.note_of("utilisation", pair[0].pk)


def test_one_that_failed_long_before_is_no_loss_of_power(pair):
    silent(*pair, after=600)
    assert power.dark_sites() == {}


def test_while_one_of_a_site_answers_it_has_power(pair):
    silent(pair[0])
    assert power.dark_sites() == {}


def test_a_call_that_was_on_its_way_names_the_cause(pair):
    plan_for("duty@oskelund.example")
    silent(*pair)
    cause, follows = (Alarm.objects.get(device=each) for each in pair)
    Consequence.objects.filter(ended_at=None).update(ended_at=NOW)
    Consequence.objects.create(alarm=follows, cause=cause, reason="It is reached by way of sw", at=NOW)
    address = Address.objects.select_related("contact").first()
    message = Message.objects.create(
        address=address, contact="anna", channel="mail", target="", created_at=NOW, next_at=NOW
    )
    told = Notification.to(address, follows.changes.get().pk, NOW, 0)
    told.message = message
    told.save()
    text = messages.compose(message).text
    assert "It follows from sw: It is reached by way of sw" in text
    assert "it looks like a loss of power there" in text


def test_every_module_of_jobs_is_known_to_those_who_run_them():
    """A module that is not listed is never imported by the worker, and its jobs never run."""
    there = {
        f"lumtar.domain.{path.parent.name}.jobs"
        for path in Path(lumtar.domain.__file__).parent.glob("*/jobs.py")
        if ".task(" in path.read_text()
    }
    assert there <= set(settings.PROCRASTINATE_IMPORT_PATHS)
