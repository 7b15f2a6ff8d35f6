"""Sweeps on the wire: what answers, how fast is asked, and how a run is stopped."""

import asyncio
import socket
import time

import pytest
from asgiref.sync import sync_to_async

from bench.ports import free_port
from lab.agent import Agent
from lab.device import Device as StandIn
from lumtar.domain.inventory.credentials import create
from lumtar.domain.inventory.models import Device
from lumtar.domain.sweeps import admission, services
from lumtar.domain.sweeps.admission import AdmissionRuleSpec
from lumtar.domain.sweeps.models import Finding, Run
from lumtar.domain.sweeps.services import SweepSpec
from lumtar.engine import sweeping
from lumtar.engine.sweeping import Pace
from tests.engine.conftest import eventually
from tests.lab.boxes import COMMUNITY, box, scenario

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture(autouse=True)
def quick(let_go, monkeypatch):
    monkeypatch.setattr(sweeping, "SAY", 0.1)


@pytest.fixture
async def boxes(loopback):
    """A box with three addresses and one with one, on one port; and addresses at which a socket keeps silent."""
    port, made = free_port(), []
    for name, addresses in (("tst-acc-1", 3), ("tst-acc-2", 1)):
        places = [next(loopback) for _ in range(addresses)]
        whole = box(name, places[0])
        device = StandIn(scenario([whole]), whole, time.time(), incidents=())
        made += [Agent(device, place, port, COMMUNITY) for place in places]
    silent = []
    for _ in range(30):
        silent.append(socket.socket(socket.AF_INET, socket.SOCK_DGRAM))
        silent[-1].bind((next(loopback), port))
    yield port, [agent.address[0] for agent in made], [each.getsockname()[0] for each in silent]
    for each in [*made, *silent]:
        each.close()


@sync_to_async
def sweep(port, addresses, **more):
    create("Wrong word", "v2c", {"community": "not-this"})
    create("Right word", "v2c", {"community": COMMUNITY})
    told = {"icmp": False, "port": port, "timeout_s": 0.2, "tries": 1, "per_second": 400, **more}
    return services.save(SweepSpec("Depot", "\n".join(addresses), **told), "anna")


async def run(made):
    asked = await sync_to_async(services.start)(made.pk, "anna")
    await sweeping.sweep(asked.pk)
    return await Run.objects.aget(pk=asked.pk)


async def test_a_sweep_finds_each_box_once_and_adds_it_by_its_rule(boxes):
    port, addresses, silent = boxes
    made = await sweep(port, [*addresses, *silent])
    await sync_to_async(admission.save)(AdmissionRuleSpec("Ours", 'sys_name like "tst-*"', "add", site="Depot"), "anna")
    ended = await run(made)
    assert (ended.state, ended.total, ended.done, ended.answered) == ("done", 34, 34, 4)
    # Two credentials for the silent; the first of them is silence at the others too.
    assert ended.packets == 34 * 2
    assert ended.counts["new"] == ended.counts["add"] == 2
    three = await Finding.objects.select_related("credential", "device").aget(sys_name="tst-acc-1")
    assert set(three.reasons) == set(addresses[:3]) and three.ports == 3
    assert sorted(three.reasons.values())[1:] == [f"the same serial number, {three.serial}"] * 2
    assert (three.credential.name, three.device.name) == ("Right word", "tst-acc-1")
    assert await Device.objects.acount() == 2
    again = await run(made)
    assert (again.counts["known"], again.counts["add"], await Device.objects.acount()) == (2, 0, 2)


async def test_icmp_and_tcp_are_found_too(boxes, loopback):
    port, _, silent = boxes
    door = socket.create_server((silent[0], 0))
    made = await sweep(port, silent[:3], snmp=False, icmp=True, tcp_ports=[door.getsockname()[1]])
    ended = await run(made)
    door.close()
    assert ended.answered == 3
    found = {each.address: each async for each in Finding.objects.all()}
    assert found[silent[0]].answered == ["icmp", "tcp"] and found[silent[0]].tcp_port
    assert found[silent[1]].answered == ["icmp"]


async def test_the_rate_is_kept_and_a_run_can_be_stopped(boxes):
    port, _, silent = boxes
    made = await sweep(port, silent, per_second=20)
    asked = await sync_to_async(services.start)(made.pk, "anna")
    began = time.monotonic()
    going = asyncio.create_task(sweeping.sweep(asked.pk))
    seen = await eventually(lambda: Run.objects.filter(packets__gt=4).first())
    assert seen.state == "running" and seen.packets <= 20 * (time.monotonic() - began) + 2
    await sync_to_async(services.stop)(made.pk)
    await going
    ended = await Run.objects.aget()
    assert ended.state == "stopped" and ended.done < 34 and ended.counts["lost"] == 0


async def test_a_closed_port_is_asked_once(boxes):
    _, addresses, _ = boxes
    made = await sweep(free_port(), addresses, tries=3)
    ended = await run(made)
    assert (ended.answered, ended.packets) == (0, len(addresses))


async def test_a_run_that_fails_says_so(boxes, monkeypatch):
    port, addresses, _ = boxes
    made = await sweep(port, addresses)

    async def broken(self, address):
        raise RuntimeError("the sky fell")

    monkeypatch.setattr(sweeping.Asker, "ask", broken)
    with pytest.raises(RuntimeError):
        await run(made)
    ended = await Run.objects.aget()
    assert (ended.state, ended.words) == ("failed", "it failed: the sky fell")


async def test_the_pace_is_even():
    pace, began = Pace(100), time.monotonic()
    await asyncio.gather(*(pace.take() for _ in range(30)))
    assert time.monotonic() - began > 0.25 and pace.taken == 30
