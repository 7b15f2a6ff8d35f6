"""The past of the demonstration's response times: what exporters of IPFIX would have told of each request."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from lab.answering import is_asking, microseconds
from lab.flows import EXPORT_S, load_of, tells_more
from lab.scenario import Box, Port
from lumtar.core.flows.records import Records
from lumtar.core.flows.response_times import TIMES, Responses, Seen, added, largest, responses_of

MOST = 150
"""Servers (by application, clients' site and exporter) of a step that are kept one by one, so that the demonstration is loaded soon."""
LONGEST = 1.4
"""How much longer than the mean of a step its longest answer took."""


class ResponseHistory:
    """Response times at the ports of a network; ports are added in the order in which their octets are given later."""

    def __init__(self, epoch: float) -> None:
        self._epoch = epoch
        self._ports: list[tuple[Port, Records, NDArray[np.int64], Responses]] = []

    def add(self, box: Box, port: Port, records: Records, device: int, seen: Seen) -> None:
        """A port and the records that can be at it."""
        is_told = is_asking(records) & tells_more(box.name)
        times = np.zeros(len(records), TIMES)
        times["network"] = times["server"] = np.where(is_told, 1.0, np.nan)
        self._ports.append((port, records, np.flatnonzero(is_told), responses_of(records, times, device, seen)))

    def step(
        self, begin: int, step: int, octets: Sequence[NDArray[np.float64]], counted: NDArray[np.float64]
    ) -> Responses:
        """Response times of a step of seconds, from the octets of each record, and of each port in both directions."""
        parts = []
        for (port, records, mine, base), told, both in zip(self._ports, octets, counted, strict=True):
            if not len(mine):
                continue
            load = max(load_of(port, way, both[way] / step) for way in (0, 1))
            times = microseconds(records[mine], load, begin + step / 2, self._epoch, {})
            rows, number = base.copy(), np.where(told[mine] > 0, step // EXPORT_S, 0)
            rows["minute"] = begin // 60
            for place, name in enumerate(("network", "server")):
                rows[f"{name}_number"], rows[f"{name}_us"] = number, times[:, place] * number
                rows[f"{name}_longest_us"] = times[:, place] * LONGEST * (number > 0)
            parts.append(rows[number > 0])
        return largest(added(parts), MOST)
