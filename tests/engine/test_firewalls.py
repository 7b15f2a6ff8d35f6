"""Firewalls: tunnels, sessions and their limit, drops and the state of a pair, from objects of a profile."""

import time
from dataclasses import asdict

import pytest
from asgiref.sync import sync_to_async

from bench.ports import free_port
from lab.inventory import KINDS, beneath
from lab.scenario import Box, Port
from lumtar.core.own_objects import check_object
from lumtar.core.profiles import Table
from lumtar.domain.alarms.models import Alarm, Rule
from lumtar.domain.inventory import profiles
from lumtar.domain.inventory.models import Component
from lumtar.domain.inventory.profiles import ProfileSpec
from lumtar.domain.readings.models import ComponentReading
from tests.engine.conftest import adding, collecting, eventually
from tests.lab.boxes import agent

pytestmark = pytest.mark.django_db(transaction=True)
OWN = "1.3.6.1.4.1.32473.2.31"


@pytest.fixture
async def firewall(loopback, monkeypatch):
    """A stand-in firewall, and a profile that says what its objects are."""
    monkeypatch.setattr("lumtar.engine.collector.reading.SELDOM", 0.5)
    made = Box("cen-fw-1", "Central", "fw", next(loopback), up_days=3.0)
    made.ports = [Port(1, "p1", "Management", terms=[(0, 1.0, True)])]
    running = agent(made, free_port(), time.time())
    objects = [asdict(check_object(**beneath(OWN, each))) for each in KINDS["fw"][1]]
    spec = ProfileSpec(
        "IM-8 firewall", "firewall", ["1.3.6.1.4.1.32473.1.31"], tables=[Table.INTERFACES], objects=objects
    )
    await sync_to_async(profiles.save)(spec, "anna")
    await adding(running)
    yield running
    running.close()


def newest(name):
    reading = ComponentReading.objects.filter(component__name=name).order_by("-at").first()
    return reading.value if reading else None


async def test_everything_that_a_firewall_tells(firewall):
    names = ("Sessions", "Sessions of the limit", "Sessions begun", "Threats found", "Packets dropped", "Pair", "Tunnel County hall",
             "Age Film depot", "Keys County hall", "In Home workers", "Out Home workers")  # fmt: skip
    async with collecting():
        await eventually(lambda: all(newest(name) is not None for name in names))
    seen = {name: await sync_to_async(newest)(name) for name in names}
    assert 1500 <= seen["Sessions"] <= 3300
    assert seen["Sessions of the limit"] == pytest.approx(100 * seen["Sessions"] / 8000, rel=0.01)
    assert seen["Sessions begun"] == pytest.approx(40, rel=0.5) and seen["Packets dropped"] >= 0
    # 90,000 octets a second, times the tunnel's number, in bits; a busy machine moves the times of its reads.
    assert seen["In Home workers"] == pytest.approx(3 * 90_000 * 8, rel=0.5)
    assert seen["Out Home workers"] == pytest.approx(3 * 40_000 * 8, rel=0.5)
    assert (seen["Pair"], seen["Tunnel County hall"]) == (1, 1)
    units = dict(await sync_to_async(list)(Component.objects.values_list("name", "unit")))
    assert (units["Keys County hall"], units["Threats found"], units["Age Film depot"]) == ("/h", "/min", "s")


async def test_a_tunnel_that_goes_down_and_a_pair_that_could_not_take_over_are_alarms(firewall):
    levels = [{"severity": 4, "limit": 0.5, "clear": 0.5}]
    async with collecting():
        # Conditions are looked at when a rule is made, and once a minute.
        await eventually(lambda: newest("Tunnel Film depot") == 1 and newest("Pair") == 1)
        await Rule.objects.acreate(name="Pairs", measure="faulty", scope="part is (tunnel, pair)", levels=levels)
        firewall.device.manners.tunnels_down.add(2)
        alarm = await eventually(lambda: Alarm.objects.filter(label__contains="Tunnel Film depot").first())
        assert "State: down" in (await alarm.changes.afirst()).text
        firewall.device.manners.tunnels_down.clear()
        await eventually(lambda: not Alarm.objects.filter(label__contains="Tunnel", is_cleared=False).exists())
        firewall.device.manners.pair_broken = True
        alarm = await eventually(lambda: Alarm.objects.filter(label__contains="Pair").first())
        assert "State: not ready" in (await alarm.changes.afirst()).text
