"""A stateless reflector of STAMP (RFC 8762 section 4.3): it answers whoever sends test packets."""

import time

from lumtar.engine.prober.sessions import OURS
from lumtar.wire import stamp
from lumtar.wire.ber import Malformed
from lumtar.wire.stamped import StampedSocket


class Reflector:
    """Answers at one socket."""

    def __init__(self, inlet: StampedSocket) -> None:
        self._inlet = inlet
        self.answered = self.refused = 0

    def take(self) -> None:
        """Answer what has arrived."""
        # When the answers left is told to nobody; what is not fetched would fill the queue.
        for _ in self._inlet.departures():
            pass
        for arrived in self._inlet.arrivals():
            try:
                answer = stamp.reflected(
                    arrived.data, arrived.at_ns or time.time_ns(), time.time_ns(), OURS, arrived.ttl
                )
                self._inlet.send(answer, arrived.sender)
                self.answered += 1
            except (Malformed, OSError):
                self.refused += 1
