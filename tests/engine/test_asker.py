"""Services that are asked again and again, on a clock that the test moves, and by the prober itself."""

import asyncio
import time

import numpy as np
import pytest
from asgiref.sync import sync_to_async

from bench.ports import free_port
from lab import services as lab
from lumtar.core.refusal import Refusal
from lumtar.domain.paths import services, store
from lumtar.domain.paths.models import Path
from lumtar.engine.prober import asker as asking
from lumtar.engine.prober.asker import Asker, ServiceSpec
from lumtar.engine.prober.prober import Prober
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.probes.asking import Asked, Target


def answers(monkeypatch, *told):
    """From now on probes of TCP are answered by these, one after another, then never."""
    coming = iter(told)

    async def ask(target):
        answer = next(coming, None)
        if answer is None:
            await asyncio.sleep(600)
        if isinstance(answer, Exception):
            raise answer
        return answer

    monkeypatch.setattr(asking, "ASK", {"tcp": ask})


async def test_what_answers_come_to(monkeypatch):
    answers(
        monkeypatch,
        Asked(2000.0, {"connected": 500.0}, certificate_days=9.0),
        Asked(4000.0, {"connected": 700.0}, "it answers with status 503", 8.0),
        Fault(FaultKind.PORT_CLOSED, "port 443 is closed"),
        ValueError("something odd"),
    )
    asker = Asker()
    asker.want([ServiceSpec(3, "tcp", Target("192.0.2.1", 443), 0.01)])
    for _ in range(200):
        await asyncio.sleep(0.01)
        if asker.problems.get(3) == "the probe failed: something odd":
            break
    asker.want([])
    await asyncio.sleep(0)
    found = asker.closed(time.time() + 200)
    assert asker.closed(time.time() + 200) == [] and asker.problems == {}
    rows = np.array([store.row_of(*each) for each in found], store.ROW)
    assert set(rows["path"]) == {3} and rows["sent"].sum() in (4, 5)
    assert rows["wrong"].sum() == 1 and (rows["sent"] - rows["lost"]).sum() == 2
    if len(rows) == 1:
        assert (rows["least"][0], rows["longest"][0], rows["connected"][0]) == (2000, 4000, 600)
        assert rows["certificate_days"][0] == 8 and np.isnan(rows["out"][0]) and np.isnan(rows["secured"][0])


async def test_a_path_that_is_as_before_goes_on(monkeypatch):
    answers(monkeypatch)
    asker = Asker()
    spec = ServiceSpec(3, "tcp", Target("192.0.2.1", 443), 5.0)
    asker.want([spec])
    task = asker._paths[3].task
    asker.want([ServiceSpec(3, "tcp", Target("192.0.2.1", 443), 5.0)])
    assert asker._paths[3].task is task
    asker.want([ServiceSpec(3, "tcp", Target("192.0.2.2", 443), 5.0)])
    assert asker._paths[3].task is not task
    await asker.end()
    assert task.cancelled()


def path(**more):
    return Path(
        **({"name": "A service", "kind": "tcp", "address": "127.0.250.1", "port": 443, "every_ms": 1000} | more)
    )


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"kind": "smoke"}, "probes of the kinds stamp, icmp"),
        ({"every_ms": 500}, "TCP connection: 1,000 to"),
        ({"kind": "stamp", "every_ms": 10}, "20 to 3,600,000"),
        ({"address": None}, "whom it asks"),
        ({"port": 0}, "usual is 443"),
        ({"asked": "x"}, "ask for nothing"),
        ({"kind": "dns", "asked": ""}, "a name and a type"),
    ],
)
def test_paths_that_make_no_sense_are_refused(db, more, words):
    with pytest.raises(Refusal, match=words):
        services.keep(path(**more), "anna")


@pytest.mark.django_db(transaction=True)
async def test_the_prober_asks_services_and_echoes(monkeypatch):
    monkeypatch.setenv("LUMTAR_REFLECTOR_PORT", "0")
    for module in ("clockwork", "sessions", "asker"):
        if module != "clockwork":
            monkeypatch.setattr(f"lumtar.engine.prober.{module}.INTERVAL_S", 1)
    monkeypatch.setattr("lumtar.engine.prober.sessions.TIMEOUT_S", 1.0)
    monkeypatch.setattr("lumtar.engine.prober.asker.TIMEOUT_S", 2.0)
    ports = lab.Ports(*(free_port() for _ in range(4)))
    served = await asyncio.to_thread(lab.Services, ports=ports)
    keep = sync_to_async(services.keep)
    rows = [
        await keep(path(name="Connection", port=ports.http), "anna"),
        await keep(path(name="Echo", kind="udp", port=ports.echo, every_ms=50), "anna"),
        await keep(
            path(name="Films", kind="http", port=0, asked=f"http://films.example:{ports.http}/", expected="Oskelund"),
            "anna",
        ),
        await keep(path(name="Nobody", port=9, every_ms=1000), "anna"),
    ]
    now = store.moment(time.time())
    await sync_to_async(store.MINUTES.ensure)(now, now)
    prober = Prober("prober")
    task = asyncio.create_task(prober.work())
    try:
        for _ in range(150):
            await asyncio.sleep(0.1)
            found = await sync_to_async(store.read)([row.pk for row in rows], store.moment(0), store.moment(4e9))
            if set(found["path"].tolist()) == {row.pk for row in rows} and len(found) >= 8:
                break
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        await asyncio.to_thread(served.close)
    by_path = {row.name: found[found["path"] == row.pk] for row in rows}
    # On a machine that is busy some answers come too late.
    assert all((part["sent"] - part["lost"]).sum() > 0 for name, part in by_path.items() if name != "Nobody")
    assert by_path["Nobody"]["lost"].sum() == by_path["Nobody"]["sent"].sum() > 0
    assert np.nanmax(by_path["Films"]["first_octet"]) >= 12_000 and np.isnan(by_path["Echo"]["out"]).all()
    assert prober._asker.problems[rows[3].pk] == "port 9 is closed: the host answers, but nothing listens there"
