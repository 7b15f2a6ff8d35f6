"""Consequences under their cause, over the links between devices."""

from datetime import UTC, datetime, timedelta

import pytest

from lumtar.core.topology import End
from lumtar.domain.alarms import calls, causes
from lumtar.domain.alarms.models import Alarm, Call, Consequence, Overruled, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import groups, services
from lumtar.domain.inventory.groups import GroupSpec
from lumtar.domain.inventory.models import Device, DeviceState, Interface, PollRequest
from lumtar.domain.topology import by_hand, queries
from lumtar.domain.topology.models import ManualLink, Neighbour
from tests.alarms import first_rules, plan_for, transition
from tests.domain.test_causes import called, shown

pytestmark = pytest.mark.django_db
LINKS = [("core", "dist-a"), ("core", "dist-b"), ("dist-a", "access"), ("dist-b", "access"), ("access", "leaf")]


def port(devices, here, there):
    """The port of a device that leads to another one."""
    return Interface.objects.get(device=devices[here], name=f"to {there}")


@pytest.fixture
def network(db):
    """core - dist-a and dist-b - access - leaf, joined by links; nobody says by hand what hangs on what."""
    made = {}
    for number, name in enumerate(("core", "dist-a", "dist-b", "access", "leaf"), 1):
        made[name] = services.add_device(f"10.9.1.{number}", name=name, kind="v2c", secret={"community": "word"})
    for number, pair in enumerate(LINKS, 1):
        ends = []
        for here, there in (pair, pair[::-1]):
            made_port = Interface.objects.create(
                device=made[here], if_index=number, name=f"to {there}", label=f"to {there}"
            )
            ends.append(End(made[here].pk, made_port.pk))
        by_hand.add(*ends, "", "anna")
    # They answered after anything that a test raises now.
    answered = datetime.now(UTC) + timedelta(hours=1)
    for device in made.values():
        DeviceState.objects.update_or_create(device=device, defaults={"reach": "answers", "answered_at": answered})
    return made


@pytest.fixture
def turn(network):
    first_rules()
    rule, plan = Rule.objects.get(name="Reachability"), plan_for("duty@oskelund.example")

    def to(name, severity=5, *, type="unreachable", leads=None):
        interface = port(network, name, leads) if leads else None
        kind = "down" if leads else type
        more = {"interface": interface, "type": kind, "rule": rule, "plan": plan if severity else None}
        apply([transition(network[name], severity, "so it is", **more)])

    return to


def reasons():
    rows = Consequence.objects.filter(ended_at=None).select_related("alarm", "cause")
    return {row.alarm.label: (row.cause.label, row.reason) for row in rows}


def test_what_is_reached_over_a_silent_device_alone_follows_from_it_whichever_is_noticed_first(turn):
    turn("leaf")
    turn("access")
    assert shown() == {"access": 1} and called()[0] == "leaf"
    assert reasons()["leaf"] == ("access", "It is reached by way of access, which does not answer")
    assert Call.objects.get(alarm__label="leaf").next_at is None


def test_a_late_cause_adopts_what_followed_from_what_follows_from_it(turn):
    for name in ("leaf", "access", "dist-a", "dist-b"):
        turn(name)
    assert shown() == {"dist-a": 2, "dist-b": 0}
    turn("core")
    found = reasons()
    assert found["leaf"][1] == "It is reached by way of access, which does not answer"
    # Nothing answers any more: what was explained before stays, and nothing new is guessed.
    assert found["leaf"][0] == found["access"][0] == "dist-a"


def test_a_link_that_is_down_explains_what_hangs_on_it_alone(turn, network):
    turn("access", leads="leaf")
    turn("leaf")
    assert called() == ["access to leaf"]
    assert reasons() == {"leaf": ("access to leaf", "The last way to it is the link at access to leaf, which is down")}


def test_both_ends_of_a_link_are_one_alarm(turn):
    turn("core", leads="dist-a")
    turn("dist-a", leads="core")
    assert called() == ["core to dist-a"]
    assert reasons()["dist-a to core"][1].startswith("It is the other end of the link at core to dist-a")


def test_ports_that_lead_to_a_device_that_failed_follow_from_it(turn):
    turn("dist-a", leads="access")
    turn("dist-b", leads="access")
    turn("access")
    turn("leaf")
    found = reasons()
    assert {name: cause for name, (cause, _) in found.items()} == {
        "dist-a to access": "access", "dist-b to access": "access", "leaf": "access",
    }  # fmt: skip


def test_other_alarms_of_what_is_cut_off_go_to_the_cause_as_well(turn):
    turn("access")
    turn("leaf")
    turn("leaf", 3, type="utilisation")
    assert shown() == {"access": 2}


def test_a_link_that_nobody_sees_any_more_is_remembered_for_what_fails_just_then(turn, network):
    ManualLink.objects.all().delete()
    ends = {"core": ("core", "dist-a"), "dist-a": ("dist-a", "core")}
    now = datetime.now(UTC)
    for here, (_, there) in ends.items():
        Neighbour.objects.create(
            device=network[here], interface=port(network, here, there), local_port="x", chassis="c", port="p",
            to_device=network[there], to_interface=port(network, there, here), since=now - timedelta(days=9),
            gone_at=now - timedelta(minutes=1),
        )  # fmt: skip
    (lost,) = queries.links_at(now, lost_for=queries.LOST_FOR)
    assert lost.lost_at == now - timedelta(minutes=1) and queries.links_at(now) == []
    turn("core", leads="dist-a")
    turn("dist-a")
    assert reasons()["dist-a"][0] == "core to dist-a"
    # Something else is plugged in there meanwhile: then the link is another one.
    Neighbour.objects.create(
        device=network["core"], interface=port(network, "core", "dist-a"), local_port="x", chassis="d", port="q",
        to_device=network["leaf"], since=now,
    )  # fmt: skip
    assert [each.lost_at for each in queries.links_at(datetime.now(UTC), lost_for=queries.LOST_FOR)] == [None]


def test_when_another_way_comes_up_what_stays_silent_stands_by_itself(turn):
    for name in ("leaf", "dist-a", "dist-b", "access"):
        turn(name)
    assert shown() == {"dist-a": 2, "dist-b": 0}
    turn("dist-b", 0)
    assert shown() == {"dist-a": 0, "access": 1}, "access is reached by dist-b again, and does not answer"
    due = Call.objects.get(alarm__label="access").next_at
    assert due > datetime.now(UTC) + timedelta(seconds=100)


def test_what_a_person_overruled_is_remembered(turn):
    turn("access")
    turn("leaf")
    leaf = Alarm.objects.get(label="leaf")
    assert causes.overrule(leaf.pk, "anna", datetime.now(UTC))
    assert shown() == {"access": 0, "leaf": 0} and Overruled.objects.get().by == "anna"
    turn("leaf", 0)
    turn("leaf")
    turn("access", 0)
    turn("access")
    assert shown() == {"access": 0, "leaf": 0}


def test_where_a_person_says_what_a_device_hangs_on_that_holds(turn, network):
    leaf = Device.objects.get(name="leaf")
    services.change_device(leaf.pk, leaf.edition, "anna", hangs_on=["core"])
    turn("access")
    turn("leaf")
    assert shown() == {"access": 0, "leaf": 0}


def test_what_it_hangs_on_is_polled_at_once_before_anybody_is_called(turn, network):
    earlier = datetime.now(UTC) - timedelta(minutes=2)
    DeviceState.objects.update(answered_at=earlier)
    turn("leaf")
    assert called() == [] and [each.device.name for each in PollRequest.objects.all()] == ["access"]
    turn("leaf", 4)
    assert PollRequest.objects.count() == 1, "asked once"
    calls.advance_due(datetime.now(UTC) + causes.ASKED)
    assert called() == ["leaf"], "access answers, so it is leaf itself"


def test_a_transport_is_a_way_that_never_fails(turn, network):
    ManualLink.objects.all().delete()
    Interface.objects.filter(name__in=("to dist-a", "to access")).update(label="Transport")
    groups.save(GroupSpec("Transport", 'label is "Transport"', is_transport=True), "anna")
    by_hand.add(End(network["access"].pk, None), End(network["leaf"].pk, None), "", "anna")
    turn("leaf")
    turn("dist-a")
    turn("access")
    found = reasons()
    assert found == {}, "access has a port of its own to dist-a, which is in the transport"


def test_a_thousand_symptoms_have_their_cause_within_two_seconds(turn, network):
    """All at once, in the transaction that raises them."""
    hub = network["leaf"]
    made = Device.objects.bulk_create(
        Device(address=f"10.10.{n // 250}.{n % 250 + 1}", name=f"box-{n}", credential=hub.credential)
        for n in range(1000)
    )
    now = datetime.now(UTC)
    ManualLink.objects.bulk_create(
        ManualLink(a_device=hub, b_device=device, entered_by="anna", since=now) for device in made
    )
    rule = Rule.objects.get(name="Reachability")
    begun = datetime.now(UTC)
    apply([transition(each, 5, "silent", rule=rule, type="unreachable") for each in (*made, hub)])
    took = datetime.now(UTC) - begun
    assert shown() == {"leaf": 1000}
    assert took < timedelta(seconds=60), (
        "what is timed is the benchmark; this only says that it is no matter of minutes"
    )
