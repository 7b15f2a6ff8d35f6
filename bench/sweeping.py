"""A sweep on the wire, against the floor that its rate and its patience set."""

import asyncio
import ipaddress
import os
import socket
import sys
import time

from bench.fleet import COMMUNITY, PORT, scenario
from bench.setting import Figure, database, process, report
from lab.agent import Agent
from lab.device import Device

FIRST = ipaddress.IPv4Address("127.112.0.0")
ADDRESSES, ANSWERING = 1024, 102
SERVED = 120.0


async def serve() -> None:
    """Stand-ins at every tenth address; at the others a socket that keeps silent, since a closed port would answer."""
    built = scenario(ANSWERING, 4)
    made: list[Agent | socket.socket] = []
    boxes = iter(built.boxes)
    for number in range(1, ADDRESSES - 1):
        place = str(FIRST + number)
        if number % 10 == 5:
            device = Device(built, next(boxes), time.time(), time.time, (), kept=5.0)
            made.append(Agent(device, place, PORT, COMMUNITY))
        else:
            silent = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            silent.bind((place, PORT))
            made.append(silent)
    print("ready", flush=True)
    await asyncio.sleep(SERVED)


def sweep() -> None:
    """A /22 of which a tenth answers: the time of a run."""
    with database() as url, process("bench.sweeping", ready=True):
        os.environ["LUMTAR_DATABASE_URL"] = url
        import django

        django.setup()
        from lumtar.domain.inventory.credentials import create
        from lumtar.domain.sweeps import admission, services
        from lumtar.domain.sweeps.models import Run
        from lumtar.engine import sweeping

        create("bench", "v2c", {"community": COMMUNITY})
        admission.save(admission.AdmissionRuleSpec("All", "", "add"), by="")
        spec = services.SweepSpec("bench", f"{FIRST}/22", icmp=False, port=PORT, per_second=200.0, timeout_s=1.0)
        made = services.save(spec, by="")
        run = Run.objects.create(sweep=made)
        began, used = time.perf_counter(), time.process_time()
        asyncio.run(sweeping.sweep(run.pk))
        took, used = time.perf_counter() - began, time.process_time() - used
        run.refresh_from_db()
        from django.db import connections

        connections.close_all()
    floor = run.packets / spec.per_second + spec.timeout_s
    report(
        f"sweep: {ADDRESSES:,} addresses",
        [
            Figure("answered and added", run.counts["add"], "", str(ANSWERING)),
            Figure("packets asked with", run.packets, ""),
            Figure("time of the run", took, "s"),
            Figure("floor: the packets at 200 a second, and the last timeout", floor, "s"),
            Figure("run over floor", took / floor, "x", "at most 1.2"),
            Figure("processor time", used, "s"),
        ],
    )


if __name__ == "__main__":
    import resource

    resource.setrlimit(resource.RLIMIT_NOFILE, (4096, resource.getrlimit(resource.RLIMIT_NOFILE)[1]))
    try:
        asyncio.run(serve())
    except KeyboardInterrupt:
        sys.exit(130)
