"""Strangers among the flows that come in: who is not known to a list, seen at once."""

from collections.abc import Mapping

import numpy as np

from lumtar.core.flows.addresses import KnownAddresses, keys_of
from lumtar.core.flows.totals import IN, Conversations
from lumtar.domain.flows.strangers import Sighting

MOST_AT_ONCE = 2_000
"""Rows of strangers that are looked at of what an exporter sends at once; a list that knows nearly nobody must not stop the rest."""
MOST_WAITING = 20_000


class Sightings:
    """Looks for strangers, and keeps what was seen until it is stored."""

    def __init__(self) -> None:
        self.lists: Mapping[int, KnownAddresses] = {}
        self._seen: dict[tuple[int, int, int, int], Sighting] = {}

    def look(self, rows: Conversations, now: float) -> None:
        """Look at conversations of one exporter; each end may be a stranger."""
        if not self.lists:
            return
        mine = rows[rows["way"] == IN]
        for end, other in (("src", "dst"), ("dst", "src")):
            keys = keys_of(mine[f"{end}_hi"], mine[f"{end}_lo"])
            for known, addresses in self.lists.items():
                places = np.flatnonzero(addresses.strangers(keys))[:MOST_AT_ONCE]
                for row in mine[places]:
                    self._note(known, row, end, other, now)

    def _note(self, known: int, row: np.void, end: str, other: str, now: float) -> None:
        hi, lo, interface = int(row[f"{end}_hi"]), int(row[f"{end}_lo"]), int(row["interface"])
        key = known, hi, lo, interface
        before = self._seen.get(key)
        if before is None and len(self._seen) >= MOST_WAITING:
            return
        octets = int(row["octets"]) + (before.octets if before else 0)
        if before is not None:
            peer, port, protocol, at = before.peer, before.port, before.protocol, before.at
        else:
            peer, at = (int(row[f"{other}_hi"]), int(row[f"{other}_lo"])), now
            port, protocol = int(row["port"]), int(row["protocol"])
        self._seen[key] = Sighting(known, hi, lo, at, interface, peer, port, protocol, octets)

    def take(self) -> list[Sighting]:
        """What was seen since the last time."""
        seen, self._seen = self._seen, {}
        return list(seen.values())
