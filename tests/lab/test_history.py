"""The demonstration's history: loaded by the same code as live readings, true to the same counters."""

import json
from datetime import UTC, datetime

import numpy as np
import pytest
from django.contrib.auth.models import User

from lab import load, people
from lab.builder import build
from lab.counting import Group, boot_at, boots
from lumtar.core.counters import Flag
from lumtar.domain.alarms.models import Alarm, AlarmAction, Call, Consequence, Maintenance, Notification, Rule
from lumtar.domain.inventory.models import Device, Interface, InterfaceSpeed
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings.models import ComponentReading, Gap, Hour, Newest, Reading
from tests.alarms import first_rules

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(scope="module")
def county():
    return build()


@pytest.fixture
def loaded(county, tmp_path, monkeypatch, let_go, transactional_db):
    """Eleven hours of the whole county."""
    first_rules()
    monkeypatch.setattr(load, "DAYS", 11 / 24)
    load.load(county, tmp_path, lambda text: None)
    return float(json.loads((tmp_path / "lab.json").read_text())["epoch"])


def test_the_demonstration_is_whole(loaded, county, tmp_path):
    listed = [box for box in county.boxes if not box.is_new]
    ports = sum(len(box.ports) for box in listed)
    assert Device.objects.count() == len(listed)
    assert Interface.objects.count() == Newest.objects.count() == InterfaceSpeed.objects.count() == ports
    assert User.objects.get().check_password("oskelund")

    # Volumes: what is stored for a port is what its device counted, to the octet.
    box = county.box("hex-acc-1")
    device = Device.objects.get(name="hex-acc-1")
    rows = Reading.objects.filter(interface__device_id=device.pk, interface__if_index=25, elapsed_ms__gt=0).order_by(
        "at"
    )
    first, last = rows.first(), rows.last()
    group = Group(county, [(box, port) for port in box.ports], loaded, load.INCIDENTS)
    n = len(box.ports)
    row = [port.index for port in box.ports].index(25)
    edges = [first.at.timestamp() - first.elapsed_ms / 1000, last.at.timestamp()]
    start, end = (group.counters(np.full(n, at), np.full(n, boot_at(boots(box, loaded), at)))[row] for at in edges)
    assert sum(rows.values_list("in_octets", flat=True)) == int(end[0] - start[0])
    assert sum(rows.values_list("out_octets", flat=True)) == int(end[1] - start[1])

    # Roll-ups hold the same.
    hour = Hour.objects.filter(interface__device_id=device.pk, interface__if_index=25).order_by("at")[3]
    within = rows.filter(at__gt=hour.at, at__lte=datetime.fromtimestamp(hour.at.timestamp() + 3600, UTC))
    assert hour.in_octets == sum(within.values_list("in_octets", flat=True))
    assert hour.readings == 60

    # Incidents: Lindmoor was dark and restarted; something is silent and something is full right now.
    gap = Gap.objects.get(device__name="lin-wan-1")
    assert 1400 < (gap.end - gap.start).total_seconds() < 1700
    assert Entry.objects.filter(kind="restart", device__name="lin-wan-1").exists()
    assert Reading.objects.filter(interface__device__name="lin-wan-1", flags=int(Flag.RESTARTED)).exists()
    well_made = Alarm.objects.filter(is_cleared=False, rule__name__in=["Utilisation", "Reachability"])
    standing = set(well_made.values_list("device__name", "type"))
    assert standing == {("net-acc-1", "unreachable"), ("pel-wan-1", "utilisation")}
    assert Alarm.objects.filter(device__name="lin-acc-1", is_cleared=True).exists()
    unsent = Notification.objects.exclude(message__state="sent")
    assert not unsent.exists() and not Call.objects.exists(), "nobody is called for history; it only tells who was"
    assert AlarmAction.objects.filter(kind="acknowledge").exists() and Maintenance.objects.count() == 2
    assert Rule.objects.get(name=people.NOISY).plan is not None
    silent = Consequence.objects.filter(alarm__device__name="lin-acc-1").first()
    assert silent is None or silent.cause.device.name == "lin-wan-1"
    assert ComponentReading.objects.filter(component__device__name="cen-fw-1", component__kind="processor").exists()
    assert Rule.objects.get(name="Utilisation").plan is not None

    # Loading again changes nothing.
    before = Reading.objects.count()
    load.load(county, tmp_path, lambda text: None)
    assert Reading.objects.count() == before
