"""Transports in use: by the routes of a site's router and the state of its ports; moves, their reasons, and what would be better."""

import itertools
from datetime import timedelta

import numpy as np
import pytest
from django.test import Client
from django.utils import timezone

from lumtar.core.access import Role
from lumtar.core.alarms.facts import Said
from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.services import Transition, apply
from lumtar.domain.controllers.models import Controller, ControllerItem, ControllerProfile
from lumtar.domain.inventory.models import Interface, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.paths import store
from lumtar.domain.paths.models import Move, Path, ServiceClass, Transport
from lumtar.domain.readings.models import Newest
from lumtar.domain.reports.transport_moves import note_moves
from lumtar.domain.topology.models import Route
from tests.server.calls import get
from tests.server.test_access import person

pytestmark = pytest.mark.django_db
NOW = timezone.now().replace(second=0, microsecond=0)
HOUR = timedelta(hours=1)


@pytest.fixture
def lines(user):
    """A router with two lines, the first one preferred, and a path of the class voice over each."""
    store.MINUTES.ensure(NOW - 2 * HOUR, NOW + HOUR)
    device = add_device("127.0.8.1", name="hex-wan-1", site="Hexwater", kind="v2c", secret={"community": "word"})
    home = Site.objects.create(name="Depot")
    voice = ServiceClass.objects.create(name="voice", limits={"path_delay_95": 60, "path_loss": 1}, share=99)
    Entry.objects.all().delete()
    made = []
    for number, name in enumerate(("A", "B"), 1):
        port = Interface.objects.create(device=device, if_index=number, name=f"wan{number}", label=f"Line {name}")
        state(port, 1)
        Route.objects.create(
            device=device, network="0.0.0.0/0", interface=port, metric=10 * number, since=NOW - 9 * HOUR
        )
        row = Transport.objects.create(
            name=f"Line {name}", provider="Cairnholm Lines", site=device.site, interface=port
        )
        Path.objects.create(
            name=f"Voice over {name}",
            from_site=home,
            to_site=device.site,
            address="127.0.8.1",
            service_class=voice,
            transport=row,
        )
        made.append(row)
    return made


def state(port, oper):
    Newest.objects.update_or_create(
        interface=port,
        defaults={
            "at": NOW, "base_at": NOW, "since": NOW, "uptime": 1, "discontinuity": 0, "port_bps": 10**8, "counters": [0] * 12, "flags": 0,
            "oper": oper, "admin": 1, "holds": 0, "moved": False, "present": True, "wide": True,
        },
    )  # fmt: skip


def measured(line, ms, lost=0, minutes=5, at=None):
    at = at or timezone.now().replace(second=0, microsecond=0)
    rows = np.zeros(minutes, store.ROW)
    for name in store.FLOATS:
        rows[name] = np.nan
    rows["path"], rows["sent"], rows["lost"] = line.paths.get().pk, 60, lost
    rows["at"] = at.timestamp() - 60 * np.arange(1, minutes + 1)
    for name in (*store.TRIPS, "mean"):
        rows[name] = 1000.0 * ms if lost < 60 else np.nan
    store.append(rows)


def choice(client):
    (row,) = get(client, "overlay")
    return row, {way["transport"]: way for way in row["ways"]}


def test_the_line_with_the_better_way_is_used(client, lines):
    measured(lines[0], 20)
    measured(lines[1], 25)
    row, ways = choice(client)
    assert (row["site"], row["service_class"], row["advice"]) == ("Hexwater", "voice", "")
    assert ways["Line A"]["is_used"] and not ways["Line B"]["is_used"] and ways["Line B"]["delay_ms"] == 25
    assert row["why"] == "its router sends everything over Line A (metric 10)"


def told_policy(transport, about="Voice"):
    profile = ControllerProfile.objects.create(name="County overlay")
    manager = Controller.objects.create(name="Manager", base="https://127.0.9.9", profile=profile)
    facts = {"about": about, "transport": transport}
    return ControllerItem.objects.create(controller=manager, kind="policy", key="p", name="Voice first", facts=facts)


def test_a_policy_of_a_controller_says_what_a_class_takes_first(client, lines):
    policy = told_policy("B")
    row, ways = choice(client)
    assert ways["Line B"]["is_used"] and row["why"] == "the policy “Voice first” of Manager takes it first"
    state(lines[1].interface, 2)
    row, ways = choice(client)
    assert ways["Line A"]["is_used"]
    assert row["why"] == "the policy “Voice first” of Manager takes Line B first, whose port is down"
    # What it says of nothing that is here, or of several at once, is left to the routes.
    for transport in ("Line C", "Cairnholm Lines"):
        policy.facts["transport"] = transport
        policy.save()
        assert choice(client)[0]["why"].startswith("its router sends everything over Line A")
    policy.delete()


def test_what_would_be_better_is_said(client, lines):
    measured(lines[0], 180)
    measured(lines[1], 25)
    row, ways = choice(client)
    assert ways["Line A"]["missed"] == ["path_delay_95"]
    assert "Line B would keep it (25 ms, 0.0 % lost). The network has not moved it." in row["advice"]


def test_where_nothing_is_better_that_is_said(client, lines):
    measured(lines[0], 180)
    measured(lines[1], 25, lost=30)
    assert "no other transport keeps it either" in choice(client)[0]["advice"]


def test_a_line_that_is_down_is_left_at_once_and_that_is_a_move(client, lines):
    assert [str(move) for move in note_moves(NOW - HOUR)] == ["None to Line A"]
    assert note_moves(NOW - HOUR) == [] and get(client, "overlay/moves") == []
    measured(lines[0], 0, lost=60, minutes=3, at=NOW)
    measured(lines[1], 25, minutes=3, at=NOW + timedelta(minutes=3))
    state(lines[0].interface, 2)
    (move,) = note_moves(NOW)
    assert move.why == "the port of Line A is down"
    (told,) = get(client, f"overlay/moves?end={(NOW + HOUR).isoformat().replace('+00:00', 'Z')}") or get(
        client, "overlay/moves"
    )
    assert (told["site"], told["from_transport"], told["to_transport"]) == ("Hexwater", "Line A", "Line B")
    assert Entry.objects.filter(text="traffic moved from Line A to Line B: the port of Line A is down").exists()
    (row,) = get(client, f"overlay/moves/{told['id']}")
    assert row["before"][2] == 100 and row["after"][0] == 25 and row["after"][2] == 0
    # And back.
    state(lines[0].interface, 1)
    assert [str(move) for move in note_moves(NOW + timedelta(minutes=4))] == ["Line B to Line A"]


def test_reasons_of_moves(lines):
    note_moves(NOW - HOUR)
    first = Route.objects.get(interface=lines[0].interface)
    first.gone_at = NOW
    first.save()
    measured(lines[0], 180, at=NOW)
    assert note_moves(NOW)[0].why == "Voice over A did not keep what is promised"
    first.gone_at = None
    first.save()
    Entry.objects.create(at=NOW, kind="user", device=lines[0].interface.device, text="policy changed", by="berta")
    assert note_moves(NOW + timedelta(minutes=1))[0].why == "after a change by berta: policy changed"


def test_a_class_moves_when_a_policy_says_so_and_goes_back_with_its_site(client, lines):
    note_moves(NOW - HOUR)
    policy = told_policy("Line A")
    minutes = itertools.count(1)

    def moved():
        return [(move.service_class and move.service_class.name, str(move), move.why) for move in noted()]

    def noted():
        return [move for move in note_moves(NOW - HOUR + timedelta(minutes=next(minutes))) if move.from_transport]

    # It begins to rule and changes nothing; the site's own traffic may go elsewhere without the class.
    assert moved() == []
    first = Route.objects.get(interface=lines[0].interface)
    Route.objects.filter(pk=first.pk).update(metric=30)
    assert [row[:2] for row in moved()] == [(None, "Line A to Line B")]
    Route.objects.filter(pk=first.pk).update(metric=10)
    assert [row[:2] for row in moved()] == [(None, "Line B to Line A")]
    policy.facts["transport"] = "Line B"
    policy.save()
    assert moved() == [("voice", "Line A to Line B", "the policy “Voice first” of Manager takes it first")]
    words = "voice moved from Line A to Line B: the policy “Voice first” of Manager takes it first"
    assert Entry.objects.filter(text=words, interface=lines[1].interface).exists()
    assert moved() == []
    state(lines[1].interface, 2)
    why = "the policy “Voice first” of Manager takes Line B first, whose port is down"
    assert moved() == [("voice", "Line B to Line A", why)]
    state(lines[1].interface, 1)
    assert [row[:2] for row in moved()] == [("voice", "Line A to Line B")]
    policy.delete()
    assert [row[:2] for row in moved()] == [("voice", "Line B to Line A")]
    # From now on it goes with its site, whose moves are said once.
    state(lines[0].interface, 2)
    assert [row[:2] for row in moved()] == [(None, "Line A to Line B")]


def test_a_move_of_a_class_compares_that_class(client, lines):
    data = ServiceClass.objects.create(name="data", limits={"path_loss": 5}, share=95)
    for line in lines:
        Path.objects.create(
            name=f"Data over {line}", to_site=line.site, address="127.0.8.1", service_class=data, transport=line
        )
    note_moves(NOW - HOUR)
    told_policy("Line B")
    note_moves(NOW)
    (told,) = get(client, f"overlay/moves?end={(NOW + HOUR).isoformat().replace('+00:00', 'Z')}")
    assert (told["service_class"], told["to_transport"]) == ("voice", "Line B")
    assert [row["service_class"] for row in get(client, f"overlay/moves/{told['id']}")] == ["voice"]


def test_a_path_tells_of_the_port_beneath_and_of_its_alarms(client, lines):
    first, second = sorted(get(client, "paths"), key=lambda row: row["name"])
    assert (first["interface"], first["port_label"]) == (lines[0].interface_id, "hex-wan-1 Line A")
    apply([Transition("path", first["id"], "path-loss", "", Severity.MAJOR, Said("A tenth is lost"), NOW)])
    assert [alarm["text"] for alarm in get(client, f"alarms?path={first['id']}")["rows"]] == ["A tenth is lost"]
    assert get(client, f"alarms?path={second['id']}")["rows"] == []


def test_nothing_is_said_where_no_way_is_known(client, lines):
    Route.objects.all().delete()
    measured(lines[0], 180)
    row, ways = choice(client)
    assert row["why"] == "" and row["advice"] == "" and not any(way["is_used"] for way in ways.values())


def test_people_who_are_limited_see_their_sites_alone(client, lines):
    note_moves(NOW - HOUR)
    state(lines[0].interface, 2)
    note_moves(NOW)
    assert Move.objects.count() == 2
    add_device("127.0.8.9", name="other", site="Dunmere", kind="v2c", secret={"community": "word"})
    browser = Client(**person("cleo", Role.VIEWER, sites=["Dunmere"]))
    assert get(browser, "overlay") == [] and get(browser, "overlay/moves") == []
