"""What a batch leaves in the database, also when the database is no longer what it was."""

import time
from datetime import UTC, datetime

import pytest
from django.db import connection

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm, RuleMemory
from lumtar.domain.inventory import services
from lumtar.domain.inventory.models import Device, DeviceState, Interface, InterfaceSpeed
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import partitions
from lumtar.domain.readings.models import DeviceReading, Gap, Newest, Reading
from lumtar.domain.readings.partitions import ensure_around
from lumtar.engine import store
from lumtar.engine.batch import GapNews
from lumtar.engine.recorder import Recorder
from tests.alarms import transition
from tests.domain.stored import store as keep
from tests.engine.answers import answer

AT = 1_795_000_020.0


@pytest.fixture
def devices():
    ensure_around(datetime.fromtimestamp(AT, UTC))
    made = [add_device(f"127.0.3.{n}", kind="v2c", secret={"community": "word"}) for n in (1, 2)]
    for device in made:
        Interface.objects.bulk_create(Interface(device=device, if_index=n, label=f"g{n}") for n in (1, 2))
    return made


@pytest.fixture
def batch(devices):
    """Both devices' second answers, and something of everything else about each."""
    recorder = Recorder([])
    slots = {device.pk: recorder.add(device, list(device.interfaces.order_by("if_index"))) for device in devices}
    for at in (AT - 60, AT):
        made = recorder.take([answer(device, slots[device.pk], at) for device in devices])
        if at < AT:
            store.write(made)
    for device in devices:
        made.transitions.append(transition(device, Severity.MAJOR, "x", at=when(AT)))
        made.gaps.append(GapNews(device.pk, AT - 300, AT - 200, "silent", "no answer"))
        made.entries.append(Entry(at=when(AT), kind=Entry.Kind.REACH, device=device, text="a word"))
    return made


def when(seconds):
    return datetime.fromtimestamp(seconds, UTC)


def stored():
    """Of which devices there is something, table by table."""
    return {
        "readings": sorted(
            Interface.objects.filter(pk__in=Reading.objects.filter(at=when(AT)).values("interface_id")).values_list(
                "device_id", flat=True
            )
        ),
        "newest": sorted(Newest.objects.filter(at=when(AT)).values_list("interface__device_id", flat=True)),
        "polls": sorted(DeviceReading.objects.filter(at=when(AT)).values_list("device_id", flat=True)),
        "states": sorted(DeviceState.objects.filter(polled_at=when(AT)).values_list("device_id", flat=True)),
        "alarms": sorted(Alarm.objects.values_list("device_id", flat=True)),
        "gaps": sorted(Gap.objects.values_list("device_id", flat=True)),
        "words": sorted(Entry.objects.filter(text="a word").values_list("device_id", flat=True)),
    }


def test_a_batch_is_stored_once_however_often_it_is_written(batch, devices):
    store.write(batch)
    first, second = (device.pk for device in devices)
    each, twice = [first, second], [first, first, second, second]
    assert stored() == {
        "readings": twice,
        "newest": twice,
        "polls": each,
        "states": each,
        "alarms": each,
        "gaps": each,
        "words": each,
    }
    batch.entries, batch.gaps = [], []
    store.write(batch)
    assert stored()["readings"] == twice and stored()["alarms"] == each


def test_a_device_deleted_meanwhile_takes_nothing_of_the_others_with_it(batch, devices):
    gone, kept = devices
    batch.memory = {}
    Device.objects.filter(pk=gone.pk).delete()
    store.write(batch)
    one, two = [kept.pk], [kept.pk, kept.pk]
    assert stored() == {
        "readings": two,
        "newest": two,
        "polls": one,
        "states": one,
        "alarms": one,
        "gaps": one,
        "words": one,
    }


def test_when_all_of_them_are_deleted_nothing_is_left(batch):
    Device.objects.all().delete()
    store.write(batch)
    assert not any(stored().values())
    assert not InterfaceSpeed.objects.exists() and not RuleMemory.objects.exists()


def test_nothing_is_raised_at_a_device_that_was_retired_meanwhile(batch, devices):
    services.retire(devices[0].pk, "anna")
    store.write(batch)
    assert stored()["alarms"] == [devices[1].pk]


def test_what_was_brought_in_order_needs_no_second_look(devices):
    """Its rows are known to be there for everybody: no reader and no later vacuum has to find that out."""
    port = Interface.objects.first()
    keep(port, [when(AT - n) for n in range(600)], 5, 5)
    piece = next(each for each in partitions.existing()["readings_reading"] if each.start <= when(AT) < each.end)
    for _ in range(8):
        assert partitions.rewrite(piece)
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT relpages > 0 AND relallvisible = relpages, age(relfrozenxid) < 100 FROM pg_class WHERE oid = %s::regclass",
                [piece.name],
            )
            if cursor.fetchone() == (True, True):
                return
        # Somebody still looks at the time before, the database's own statistics for instance: then not even it can know.
        time.sleep(1)
    raise AssertionError("what was rewritten has to be looked through once more")
