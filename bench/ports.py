"""Ports for what is started on this machine for a while, in tests and measurements."""

import itertools
import random
import socket

FIRST, COUNT = 12_000, 20_000
"""Below those that the system gives to connections (32,768 and up): else one of these could take a port before it is listened on."""
_places = itertools.count(random.SystemRandom().randrange(COUNT))


def free_port() -> int:
    """A port of 127.0.0.1 that nobody holds, by TCP or by UDP, and that this process has not been given lately."""
    while True:
        port = FIRST + next(_places) % COUNT
        try:
            for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
                with socket.socket(socket.AF_INET, kind) as probe:
                    probe.bind(("127.0.0.1", port))
        except OSError:
            continue
        return port
