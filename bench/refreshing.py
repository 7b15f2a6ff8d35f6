"""How well rates are dated: constant traffic through agents that refresh their counters in different ways.

``python -m bench.refreshing SECONDS`` is the process of the stand-ins.
"""

import asyncio
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import ExitStack
from pathlib import Path

import psycopg

from bench.fleet import COMMUNITY, PORT, scenario
from bench.setting import Figure, database, process, report
from lab.agent import Agent
from lab.device import Device

PERIODS, INTERVALS = (5.0, 10.0, 30.0), (10, 30, 60)
KINDS = ("lazy", "cached")
WARM_S, MEASURED_S = 420, 360
PERCENT = 6.06
"""Of a port of 1 Gb/s."""
FLAG_DATED, FLAG_HELD = 2048, 128
AGENTS = [(kind, period, interval) for kind in KINDS for period in PERIODS for interval in INTERVALS]
AGENTS += [("at once", 0.0, interval) for interval in INTERVALS]
SNMPD_PORT = 11661

ADD = """
import django; django.setup()
from lumtar.domain.inventory.models import Device
from lumtar.domain.inventory.services import add_device
from bench.refreshing import AGENTS, INTERVALS, SNMPD_PORT
from bench.fleet import COMMUNITY, PORT, address
for number, (kind, period, interval) in enumerate(AGENTS):
    made = add_device(address(number), port=PORT, kind="v2c", secret={"community": COMMUNITY})
    Device.objects.filter(pk=made.pk).update(interval_s=interval, name=f"{kind} {period:.0f} every {interval}")
for interval in INTERVALS:
    made = add_device("127.0.0.1", port=SNMPD_PORT + interval, kind="v2c", secret={"community": COMMUNITY})
    Device.objects.filter(pk=made.pk).update(interval_s=interval, name=f"snmpd every {interval}")
"""
RATES = """
SELECT d.name, 8000.0 * r.in_octets / r.elapsed_ms, r.flags FROM readings_reading r
JOIN inventory_interface i ON i.id = r.interface_id JOIN inventory_device d ON d.id = i.device_id
WHERE r.at > to_timestamp(%s) AND r.elapsed_ms > 0 AND (i.if_index = 1) ORDER BY d.name, r.at
"""


async def serve(seconds: float) -> None:
    """Answer for so many seconds, then end."""
    built, epoch = scenario(len(AGENTS), 2), time.time()
    agents = []
    for box, (kind, period, _) in zip(built.boxes, AGENTS, strict=True):
        device = Device(built, box, epoch, time.time, (), kept=0.001)
        device.set_share(1, PERCENT, PERCENT)
        if kind != "at once":
            setattr(device.manners, {"lazy": "refresh", "cached": "cached"}[kind], period)
        agents.append(Agent(device, box.address, PORT, COMMUNITY))
    print("ready", flush=True)
    await asyncio.sleep(seconds)
    for agent in agents:
        agent.close()


class Traffic:
    """Constant traffic through the loopback interface, for Debian's snmpd to count."""

    def __init__(self, bps: float) -> None:
        self._every = 8 * 30_000 / bps
        self._ending = threading.Event()
        threading.Thread(target=self._send, daemon=True).start()

    def _send(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sink, socket.socket(type=socket.SOCK_DGRAM) as source:
            sink.bind(("127.0.0.1", 0))
            sink.setblocking(False)
            due = time.monotonic()
            while not self._ending.is_set():
                source.sendto(bytes(30_000), sink.getsockname())
                due += self._every
                time.sleep(max(0.0, due - time.monotonic()))

    def end(self) -> None:
        """Stop sending."""
        self._ending.set()


def _loopback_octets() -> int:
    lines = Path("/proc/net/dev").read_text().splitlines()
    return int(next(line for line in lines if line.strip().startswith("lo:")).split(":")[1].split()[0])


def _snmpd(stack: ExitStack, interval: int) -> None:
    """An agent for each interval: one that several ask is refreshed as it suits the others."""
    folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
    port = SNMPD_PORT + interval
    (folder / "snmpd.conf").write_text(f"agentAddress udp:127.0.0.1:{port}\nrocommunity {COMMUNITY} 127.0.0.1\n")
    words = [
        "/usr/sbin/snmpd",
        "-I",
        "-smux",
        "-f",
        "-LF",
        "6",
        str(folder / "log"),
        "-C",
        "-c",
        str(folder / "snmpd.conf"),
    ]
    running = subprocess.Popen(words, env={**os.environ, "SNMP_PERSISTENT_DIR": str(folder)}, stdout=subprocess.DEVNULL)
    stack.callback(running.wait, 5)
    stack.callback(running.terminate)


def refresh() -> None:
    """Constant traffic: how far rates are off, dated and by the clock alone."""
    total = WARM_S + MEASURED_S + 120
    with database() as url, ExitStack() as stack:
        stack.enter_context(process("bench.refreshing", str(total), ready=True))
        for interval in INTERVALS:
            _snmpd(stack, interval)
        traffic = Traffic(60.6e6)
        stack.callback(traffic.end)
        env = {**os.environ, "LUMTAR_DATABASE_URL": url}
        subprocess.run([sys.executable, "-c", ADD], env=env, check=True)
        stack.enter_context(process("lumtar.engine.collector", env=env))
        time.sleep(WARM_S)
        began, octets = time.time(), _loopback_octets()
        time.sleep(MEASURED_S)
        truth = 8 * (_loopback_octets() - octets) / (time.time() - began)
        with psycopg.connect(url) as asking:
            rows = asking.execute(RATES, [began + 60]).fetchall()
    figures = []
    for name in dict.fromkeys(row[0] for row in rows):
        true = truth if name.startswith("snmpd") else PERCENT / 100 * 1e9
        mine = [(float(rate), flags) for each, rate, flags in rows if each == name]
        worst = max(abs(100 * rate / true - 100) for rate, _ in mine)
        dated = sum(1 for _, flags in mine if flags & FLAG_DATED)
        figures.append(Figure(f"{name} s: worst of {len(mine)} rates ({dated} dated)", worst, "%", "at most 2"))
    report("rates of constant traffic", figures)


if __name__ == "__main__":
    asyncio.run(serve(float(sys.argv[1])))
