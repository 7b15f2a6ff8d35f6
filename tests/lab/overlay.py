"""A stand-in controller with a few branches for tests."""

import time
from contextlib import contextmanager

from lab.controller import ADDRESS, NAME, PASSWORD, PROFILE, USER, Controller
from lab.device import Device
from lab.scenario import Box, Port
from lab.services import certificate
from lumtar.core.controllers import SignIn
from lumtar.domain.controllers.services import listing
from tests.lab.boxes import scenario

SIGN_IN = SignIn(**PROFILE["sign_in"])
LISTS = {name: listing(each) for name, each in PROFILE["lists"].items()}
SECRET = {"user": USER, "password": PASSWORD}
BRANCHES = ("hex", "sal", "dun")


def boxes():
    """Two hubs and three branches with two transports each."""
    made = []
    for number, (short, ports) in enumerate((("cen", 1), ("dep", 1), *((short, 2) for short in BRANCHES)), 1):
        box = Box(f"{short}-wan-1", short.capitalize(), "wan", f"127.0.77.{number}", up_days=30.0)
        names = ("wan2",) if short == "dep" else ("wan1", "wan2")[:ports]
        box.ports += [Port(index, name, f"Transport {name}") for index, name in enumerate(names, 1)]
        made.append(box)
    return made


@contextmanager
def overlay(days=30.0):
    """A controller, the certificate that it is trusted by, and the stand-ins that it tells of."""
    made = boxes()
    devices = {box.name: Device(scenario(made), box, time.time(), incidents=()) for box in made}
    pem = certificate(days, NAME, ADDRESS)
    running = Controller(devices, pem, port=0)
    try:
        yield running, f"https://{ADDRESS}:{running.port}", pem[0].decode(), devices
    finally:
        running.close()
