"""A device's life: added, changed, retired, restored, deleted; and what stays of it."""

import pytest
from django.utils import timezone

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import catalogue, queries, services
from lumtar.domain.inventory.credentials import create
from lumtar.domain.inventory.models import Device, Interface, OwnField, Site
from lumtar.domain.inventory.scope import Scope
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.editing import Stale
from lumtar.domain.readings.models import Gap, Newest
from lumtar.domain.reports import cells, devices, ports
from tests.alarms import transition
from tests.domain.conftest import NOW

pytestmark = pytest.mark.django_db


@pytest.fixture
def credential():
    return create("Branches", "v2c", {"community": "word"})


@pytest.fixture
def device(credential):
    OwnField.objects.create(name="Rack")
    made = services.add_device(
        "127.0.0.1", name="sal-wan-1", site="Saltby", credential=credential, groups=["WAN"], tags={"owner": "it"},
        own={"Rack": "R4"}, by="anna",
    )  # fmt: skip
    Interface.objects.create(device=made, if_index=1, label="Transport 1")
    return made


def test_what_speaks_no_snmp_can_be_watched_too():
    echo = services.add_device("127.0.0.1", way="icmp", port=99999)
    port = services.add_device("127.0.0.1", way="tcp", port=22)
    assert (echo.port, echo.credential, port.port, port.credential) == (0, None, 22, None)
    with pytest.raises(ValueError, match=r"at 127\.0\.0\.1 already"):
        services.add_device("127.0.0.1", way="icmp")
    with pytest.raises(ValueError, match="snmp, icmp or tcp"):
        services.add_device("127.0.0.2", way="smoke")


def test_ipv6_in_whatever_form_is_one_device(credential):
    services.add_device("0:0::1", credential=credential)
    with pytest.raises(ValueError, match="There is a device at ::1"):
        services.add_device("[::1]", credential=credential)


def test_a_change_says_what_was_and_what_is(device):
    services.change_device(device.pk, 1, "bert", name="sal-wan-2", interval_s=30, groups=["WAN", "Branches"])
    device.refresh_from_db()
    assert (device.name, device.interval_s, device.edition, device.site.name) == ("sal-wan-2", 30, 2, "Saltby")
    assert sorted(device.groups.values_list("name", flat=True)) == ["Branches", "WAN"]
    entry = Entry.objects.filter(device=device).last()
    assert entry.text == (
        "sal-wan-2 changed: name sal-wan-2, was sal-wan-1; interval 30 s, was 60 s; groups Branches, WAN, was WAN"
    )
    assert entry.by == "bert"


def test_the_second_of_two_editors_is_told(device):
    services.change_device(device.pk, 1, "bert", name="first")
    with pytest.raises(Stale, match="Nothing of yours is saved"):
        services.change_device(device.pk, 1, "anna", name="second")
    assert Device.objects.get().name == "first"


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ({"name": ""}, "1 to 120"),
        ({"name": "a\nb"}, "control character"),
        ({"address": "a b"}, "without blanks"),
        ({"port": 0}, "between 1 and 65535"),
        ({"interval_s": 1}, "between 10 seconds"),
        ({"site": "x" * 81}, "at most 80"),
        ({"credential": 99999}, "no such credential"),
        ({"own": {"Shelf": "2"}}, "no own field 'Shelf'"),
        ({"groups": ["x" * 81]}, "at most 80"),
    ],
)
def test_bad_changes_change_nothing(device, told, words):
    with pytest.raises(ValueError, match=words):
        services.change_device(device.pk, 1, "anna", **told)
    assert Device.objects.get().edition == 1


def test_a_change_onto_another_devices_address(device, credential):
    services.add_device("127.0.0.2", credential=credential)
    with pytest.raises(ValueError, match=r"There is a device at 127\.0\.0\.2"):
        services.change_device(device.pk, 1, "anna", address="127.0.0.2")


@pytest.mark.parametrize(
    ("kind", "right", "wrong", "words"),
    [
        ("number", "4.5", "many", "is a number"),
        ("date", "2026-11-23", "23.11.", "a date like"),
        ("choice", "gold", "lead", "is one of gold, silver"),
        ("text", "anything", "x" * 401, "longer than 400"),
    ],
)
def test_own_fields_hold_what_they_are_for(kind, right, wrong, words):
    OwnField.objects.create(name="Field", kind=kind, choices=["gold", "silver"])
    assert services.checked_own({"Field": right}) == {"Field": right}
    with pytest.raises(ValueError, match=words):
        services.checked_own({"Field": wrong})


def test_retired_it_is_out_of_the_lists_and_its_history_stays(device):
    apply([transition(device, Severity.MAJOR, "no answer", at=NOW)])
    services.retire(device.pk, "anna")
    assert devices.find()[1] == ports.find()[1] == 0 and devices.site_counts() == []
    assert [row.name for row in devices.find(retired=True)[0]] == ["sal-wan-1"]
    assert devices.find(NOW)[1] == 1, "at a time when it was there it is still shown"
    assert devices.find(only=device.pk)[0][0].name == "sal-wan-1"
    assert not Alarm.objects.filter(is_cleared=False).exists()
    assert Gap.objects.get(end=None).words == "retired, not polled"
    with pytest.raises(ValueError, match="retired already"):
        services.retire(device.pk, "anna")
    with pytest.raises(ValueError, match="sal-wan-1, retired; restore it instead"):
        services.add_device("127.0.0.1", kind="v2c", secret={"community": "word"})


def test_restored_it_is_back(device):
    services.retire(device.pk, "anna")
    services.restore(device.pk, "anna")
    assert devices.find()[1] == 1 and not Gap.objects.filter(end=None).exists()
    with pytest.raises(ValueError, match="is not retired"):
        services.restore(device.pk, "anna")


def test_only_what_is_retired_can_be_deleted(device):
    with pytest.raises(ValueError, match="Retire sal-wan-1 first"):
        services.delete(device.pk, "anna")
    services.retire(device.pk, "anna")
    services.delete(device.pk, "anna")
    assert not Device.objects.exists() and not Interface.objects.exists()
    last = Entry.objects.order_by("pk").last()
    assert last.text == "sal-wan-1 (127.0.0.1) deleted with its history" and last.by == "anna"


def test_the_list_of_devices(device, credential):
    services.add_device("::1", port=1161, credential=credential)
    Site.objects.create(name="Empty")
    rows = list(queries.device_lines())
    assert rows[1] == {
        "address": "127.0.0.1",
        "port": 161,
        "name": "sal-wan-1",
        "site": "Saltby",
        "groups": ["WAN"],
        "tags": {"owner": "it"},
        "credential": "Branches",
        "interval": 60,
        "way": "snmp",
        "own": {"Rack": "R4"},
    }
    assert queries.places(["::1", "nowhere"]) == {("::1", 1161, "snmp"): "::1"}


def test_pages_of_a_long_list_hold_each_port_once_in_every_order(device):
    """However a page is found, the pages together are the whole list in one order."""
    Interface.objects.bulk_create(
        Interface(device=device, if_index=100 + n, name=f"g{n}", label=f"Port {n % 7}") for n in range(40)
    )
    Interface.objects.filter(if_index=105).update(gone_at=NOW)
    now = timezone.now()
    nothing = {"counters": [], "uptime": 0, "discontinuity": 0, "port_bps": 10**9, "flags": 0, "admin": 1, "holds": 0}
    same = {"at": now, "base_at": now, "since": now, "moved": True, "present": True, "wide": True, "oper": 1, **nothing}
    for port in Interface.objects.filter(if_index__gte=100):
        rates = {"in_bps": 1e6 * (port.if_index % 5), "out_bps": None if port.if_index % 3 else 2e6}
        share = {"in_percent": port.if_index % 11, "out_percent": None, "error_rate": 0.0}
        Newest.objects.create(interface=port, **same, **rates, **share)
    for sort in ports.SORTS:
        whole, total = ports.find(sort=sort, limit=2000)
        ids = [row.id for row in whole]
        assert len(set(ids)) == total == 40
        for size in (1, 4, 10):
            pages = [ports.find(sort=sort, limit=size, offset=first) for first in range(0, total, size)]
            assert [row.id for rows, _ in pages for row in rows] == ids, (sort, size)
            assert {count for _, count in pages} == {total}
    assert ports.find(limit=10, offset=500) == ([], 40)
    found, total = ports.find(scope=Scope(words="G1"), limit=3, offset=3)
    assert (len(found), total) == (3, 11)


def test_names_with_numbers_are_in_the_order_of_people(db):
    for number in (10, 2, 1):
        made = services.add_device(
            f"127.0.9.{number}",
            kind="v2c",
            secret={"community": "w"},
            name=f"br{number}-acc-1",
            site=f"Branch {number}",
        )
        Interface.objects.create(device=made, if_index=1, name="g1", label="g1")
    people = [1, 2, 10]
    assert [name for name, _, _ in devices.site_counts()] == [f"Branch {n}" for n in people]
    assert [site.name for site in cells.of_sites()] == [f"Branch {n}" for n in people]
    assert [each.name for each in cells.of_devices()] == [f"br{n}-acc-1" for n in people]
    assert [row.name for row in devices.find()[0]] == [f"br{n}-acc-1" for n in people]
    assert [row.device for row in ports.find(sort="name")[0]] == [f"br{n}-acc-1" for n in people]
    assert [item.site for item in catalogue.items(sort="-site", limit=9)[0]] == [
        f"Branch {n}" for n in reversed(people)
    ]
