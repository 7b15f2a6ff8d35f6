"""A small network of stand-ins for tests."""

import numpy as np

from lab.agent import Agent
from lab.device import Device
from lab.scenario import Box, Port, Scenario
from lab.traffic import CLASSES, Sources

COMMUNITY = "test-word"


def scenario(boxes, peak=80e6):
    """Boxes fed by one steady source; a port with terms [(0, 1, True)] carries it."""
    classes = np.array([CLASSES.index("steady")])
    return Scenario(boxes, Sources(classes, np.array([[peak, peak / 4]]), np.array([12345], np.uint64)))


def box(name="tst-acc-1", address="127.0.0.1", ports=3, **more):
    """A box whose first port carries the source, second is idle, third is down."""
    made = Box(name, "Test", "acc", address, up_days=30.0, **more)
    for index in range(1, ports + 1):
        terms = [(0, 1.0, True)] if index == 1 else []
        made.ports.append(Port(index, f"g{index}", "Uplink" if index == 1 else "", terms=terms, up=index != 3))
    made.sensors.append(("Inlet temperature", 24.0, 3.0))
    return made


def agent(made, port, epoch, user=None, clock=None):
    """An agent that answers for a box."""
    device = Device(scenario([made]), made, epoch, *([clock] if clock else []), incidents=())
    return Agent(device, made.address, port, COMMUNITY, user)
