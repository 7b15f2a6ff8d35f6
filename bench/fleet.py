"""A fleet of equal stand-in devices on loopback: ``python -m bench.fleet DEVICES PORTS SECONDS [KEPT [STORM]]``.

A storm of so many seconds begins when the process gets SIGUSR1.
"""

import asyncio
import random
import resource
import signal
import sys
import time
from collections.abc import Iterator

import numpy as np

from lab.agent import Agent
from lab.device import Device
from lab.incidents import FOREVER, Surge
from lab.scenario import Box, Port, Scenario
from lab.traffic import CLASSES, Sources

COMMUNITY = "bench-word"
PORT = 1161
MORE_BPS = 6e8
"""What a port carries more while it is full."""


def address(number: int) -> str:
    """The address of a device: 127.96.0.1 and following."""
    return f"127.{96 + number // 62500}.{number // 250 % 250}.{1 + number % 250}"


def scenario(devices: int, ports: int) -> Scenario:
    """Devices with so many busy ports each, all fed by one source."""
    boxes = []
    for number in range(devices):
        box = Box(f"bench-{number:05d}", "Bench", "acc", address(number), up_days=50)
        box.ports = [Port(index, f"g{index}", f"Port {index}", terms=[(0, 1.0, True)]) for index in range(1, ports + 1)]
        boxes.append(box)
    steady = np.array([CLASSES.index("steady")])
    return Scenario(boxes, Sources(steady, np.array([[3e8, 6e7]]), np.array([7], np.uint64)))


def surges(built: Scenario, since: float, seconds: float) -> Iterator[Surge]:
    """From a moment on, for so many seconds, every port fills and empties at moments of its own; then every other one stays full."""
    dice = random.Random(7)
    for box in built.boxes:
        for port in box.ports:
            at = since + dice.uniform(0, 10)
            while at < since + seconds - 30:
                end = at + dice.uniform(8, 20)
                yield Surge(box.name, port.name, at, end, MORE_BPS, 0.0)
                at = end + dice.uniform(8, 20)
            if port.index % 2:
                yield Surge(box.name, port.name, since + seconds, FOREVER, MORE_BPS, 0.0)


async def serve(devices: int, ports: int, seconds: float, kept: float = 5.0, storm: float = 0.0) -> None:
    """Answer for so many seconds, then end; counters are worked out anew after they were kept for so many."""
    resource.setrlimit(
        resource.RLIMIT_NOFILE, (max(devices + 200, 4096), resource.getrlimit(resource.RLIMIT_NOFILE)[1])
    )
    built = scenario(devices, ports)
    epoch = time.time()
    agents = [
        Agent(Device(built, box, epoch, time.time, (), kept=kept), box.address, PORT, COMMUNITY) for box in built.boxes
    ]

    def rage() -> None:
        incidents = tuple(surges(built, time.time() - epoch, storm))
        for agent in agents:
            agent.device = Device(built, agent.device.box, epoch, time.time, incidents, kept=kept)

    asyncio.get_running_loop().add_signal_handler(signal.SIGUSR1, rage)
    print("ready", flush=True)
    await asyncio.sleep(seconds)
    for agent in agents:
        agent.close()


if __name__ == "__main__":
    asyncio.run(serve(int(sys.argv[1]), int(sys.argv[2]), *map(float, sys.argv[3:])))
