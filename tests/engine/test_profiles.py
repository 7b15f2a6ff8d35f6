"""Profiles in the collector: what is read, and what is news."""

import time
from itertools import count, pairwise

import pytest
from asgiref.sync import sync_to_async

from lab.mib import scalar, text
from lumtar.domain.inventory import labelling, profiles
from lumtar.domain.inventory.labelling import LabelRuleSpec
from lumtar.domain.inventory.models import Component, Device, DeviceState, Interface
from lumtar.domain.inventory.profiles import ProfileSpec
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings.models import ComponentReading
from lumtar.wire import ber
from tests.engine.conftest import adding, collecting, eventually

pytestmark = pytest.mark.django_db(transaction=True)
OWN = "1.3.6.1.4.1.32473.2.12"


def extra(oid, name, **more):
    return {"oid": oid, "name": name, "unit": "", "scale": 1.0, "counts": False, "text": False, **more}


OBJECTS = [
    extra(f"{OWN}.1.0", "Battery", unit="V", scale=0.1),
    extra(f"{OWN}.2.0", "Sessions", counts=True),
    extra(f"{OWN}.3.0", "Time left", unit="min", text=True),
    extra("1.3.6.1.2.1.2.2.1.8", "State"),
    extra(f"{OWN}.9.0", "Not there"),
]


def values(name):
    return [reading.value for reading in ComponentReading.objects.filter(component__name=name).order_by("at")]


async def test_extra_objects_are_read_counted_and_scaled(stand_in):
    device = stand_in.device
    asked = count(1)
    own = [
        scalar(f"{OWN}.1", lambda at: [ber.integer(135, ber.GAUGE32)]),
        scalar(f"{OWN}.2", lambda at: [ber.integer(next(asked) * 40, ber.COUNTER32)]),
        scalar(f"{OWN}.3", lambda at: [text("38.5 min")]),
    ]
    device.mib = type(device.mib)([*device.mib.columns, *own])
    told = ProfileSpec("Fernhall", "switch", ["1.3.6.1.4.1.32473.1"], tables=["interfaces"], objects=OBJECTS)
    await sync_to_async(profiles.save)(told, "anna")
    await adding(stand_in)
    async with collecting():
        await eventually(lambda: len(values("Sessions")) >= 3)
    # 40 more at every poll, however long it took: what counts is that the rate is over the time between two polls.
    sessions = ComponentReading.objects.filter(component__name="Sessions").order_by("at")
    read = [(at, value) async for at, value in sessions.values_list("at", "value")]
    for (before, _), (at, rate) in pairwise(read):
        assert rate * (at - before).total_seconds() == pytest.approx(40, rel=0.01)
    assert set(await sync_to_async(values)("Battery")) == {13.5}
    assert set(await sync_to_async(values)("Time left")) == {38.5}
    found = {part.name: part async for part in Component.objects.all()}
    assert {"State 1", "State 2", "State 3"} < set(found) and "Not there" not in found
    assert (found["Sessions"].kind, found["Sessions"].unit, found["Battery"].unit) == ("object", "/s", "V")
    # Before it was recognised everything was read; what its profile leaves out is gone since then.
    assert {part.kind for part in found.values() if not part.gone_at} == {"object"}
    stored = await Device.objects.aget()
    assert stored.engine_id and stored.base_mac.startswith("02:00:")
    assert (await DeviceState.objects.aget()).requests >= 3


async def test_a_profile_that_is_changed_for_all_is_read_from_the_next_poll_on(stand_in):
    told = ProfileSpec("Fernhall", "switch", ["1.3.6.1.4.1.32473.1"], tables=["interfaces"])
    made = await sync_to_async(profiles.save)(told, "anna")
    await adding(stand_in)
    async with collecting():
        await eventually(lambda: Device.objects.filter(profile=made).exists())
        wanted = ProfileSpec(told.name, told.kind, told.prefixes, tables=["interfaces", "processors"])
        await sync_to_async(profiles.save)(wanted, "anna", made.pk, 1, for_all=True)
        await eventually(
            lambda: Component.objects.filter(kind="processor").exists() and ComponentReading.objects.exists()
        )


async def test_an_access_ports_ups_and_downs_are_not_news(stand_in):
    await sync_to_async(labelling.save_rule)(LabelRuleSpec("Uplinks", 'label is "Uplink"', role="uplink"), "anna")
    await sync_to_async(labelling.save_rule)(LabelRuleSpec("Rest", role="access"), "anna")
    await adding(stand_in)
    async with collecting():
        await eventually(
            lambda: (
                Interface.objects.filter(role="access").exists()
                and DeviceState.objects.filter(reach="answers").exists()
            )
        )
        stand_in.device.set_link(2, False)
        stand_in.device.set_link(1, False)
        news = Entry.objects.filter(kind="state")
        await eventually(lambda: news.filter(interface__if_index=1).exists())
        # Somebody says that this one matters after all; the running collector takes that over.
        access = await Interface.objects.aget(if_index=2)
        assert not await news.filter(interface=access).aexists()
        await sync_to_async(labelling.overrule)(access.pk, None, "trunk", {}, "anna")

        def heard():
            # Up and down for longer than an interval each, so that a poll sees it.
            stand_in.device.set_link(2, time.time() % 4 < 2)
            return news.filter(interface=access).exists()

        await eventually(heard)
