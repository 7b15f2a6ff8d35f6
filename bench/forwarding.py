"""Forwarding tables, as a part of ``./lumtar bench topology``: links that follow from them alone, and reading a large one."""

import asyncio
import random
import socket
import sys
import time

from bench.ports import free_port
from bench.setting import Figure
from lab.switching import hears, span
from lumtar.core.topology import End
from lumtar.core.topology.bridging import Forwarding
from lumtar.core.topology.inference import infer
from lumtar.engine.collector.bridging import read_bridge
from lumtar.wire.session import Community, Session
from lumtar.wire.transport import Transport

HEARD = {"everything": 1.0, "nine entries in ten": 0.9, "seven entries in ten": 0.7}
"""How much of their forwarding tables bridges that tell nothing of their neighbours have filled."""
QUIET = 200
STATIONS = 50_000


def _hear(dice: random.Random, share: float) -> tuple[float, float]:
    """Of a tree of bridges that tell nothing of each other: the share of links that follow, and of those that are none."""
    edges = [(dice.randint(max(1, n // 6), n - 1), 10_000 + n, n, 20_000 + n) for n in range(2, QUIET + 1)]
    stations = {each: [(each << 8, 30_000 + each)] for each in range(1, QUIET + 1)}
    for number in range(QUIET * 8):
        stations[dice.randint(1, QUIET)].append((1 << 40 | number << 1, 40_000 + number))
    tables = hears(span(range(1, QUIET + 1), edges), stations)
    heard = {
        each: Forwarding.of((mac, at, 0) for mac, at in table.items() if dice.random() < share)
        for each, table in tables.items()
    }
    found = {frozenset((each.a, each.b)) for each in infer(heard, {each << 8: (each, None) for each in tables})}
    truth = {frozenset((End(a, p), End(b, q))) for a, p, b, q in edges}
    return len(found & truth) / len(truth), len(found - truth) / max(1, len(found))


def forwarding() -> list[Figure]:
    """Links that follow from forwarding tables alone, and what reading a large table costs."""
    figures, dice = [], random.Random(29)
    for name, share in HEARD.items():
        begun = time.perf_counter()
        found, none = _hear(dice, share)
        took = time.perf_counter() - begun
        figures.append(Figure(f"{QUIET} bridges without LLDP that heard {name}: links found", 100 * found, "%"))
        figures.append(Figure("of these, links that are none", 100 * none, "%", "0"))
        figures.append(Figure("working them out", took, "s"))
    seconds, longest, requests = asyncio.run(_read_large())
    return [
        *figures,
        Figure(f"forwarding table of {STATIONS:,} entries: reading it", seconds, "s"),
        Figure("requests that it takes", requests, ""),
        Figure("longest time that nothing else had its turn meanwhile", 1000 * longest, "ms", "below 100"),
    ]


async def _read_large() -> tuple[float, float, int]:
    """Read a large forwarding table from a stand-in in another process; seconds, the longest stall of the loop, requests."""
    serving = await asyncio.create_subprocess_exec(
        sys.executable, "-c", LARGE, str(free_port()), stdout=asyncio.subprocess.PIPE
    )
    assert serving.stdout is not None
    place = int(await serving.stdout.readline())
    transport, stalls = Transport(), [0.0]

    async def beat() -> None:
        while True:
            begun = time.perf_counter()
            await asyncio.sleep(0.005)
            stalls.append(time.perf_counter() - begun - 0.005)

    beating = asyncio.create_task(beat())
    try:
        session = Session(transport, socket.AF_INET, ("127.0.0.1", place), Community("bench-word"))
        begun = time.perf_counter()
        told = await read_bridge(session)
        took = time.perf_counter() - begun
        assert told is not None and len(told.forwarding) == STATIONS
        return took, max(stalls), session.requests
    finally:
        beating.cancel()
        transport.close()
        serving.terminate()
        await serving.wait()


LARGE = f"""
import asyncio, sys, time
import numpy as np
from lab.agent import Agent
from lab.device import Device
from lab.mib import Column
from lab.scenario import Box, Port, Scenario
from lab.traffic import Sources
from lumtar.wire import ber, oids
async def serve():
    box = Box("bench-acc-1", "Bench", "acc", "127.0.0.1", [Port(1, "g1")])
    sources = Sources(np.zeros(1, np.int64), np.zeros((1, 2)), np.zeros(1, np.uint64))
    device = Device(Scenario([box], sources), box, time.time(), time.time, ())
    rows = [ber.subidentifiers([1, *(0x020000000000 + n).to_bytes(6, "big")]) for n in range({STATIONS})]
    values = [ber.integer(1)] * len(rows)
    device.tell([Column(oids.DOT1Q_FORWARDING_PORT, rows, lambda at: values)])
    agent = Agent(device, "127.0.0.1", int(sys.argv[1]), "bench-word")
    print(sys.argv[1], flush=True)
    await asyncio.sleep(120)
asyncio.run(serve())
"""
