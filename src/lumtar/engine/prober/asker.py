"""Probes of services: each path asks by itself, one time after another, and keeps what became of that until an interval has closed."""

import asyncio
import time
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
import structlog

from lumtar.core.paths.service_times import ServiceTimes, service_times
from lumtar.core.paths.statistics import Answers, Summary, summary
from lumtar.engine.prober.sessions import INTERVAL_S
from lumtar.wire.faults import Fault
from lumtar.wire.probes import ASK
from lumtar.wire.probes.asking import TIMEOUT_S, Asked, Target

log = structlog.get_logger()
SPREAD = 0.618034
"""Paths begin at different times, spread evenly however many there are."""
Told = tuple[int, int, Summary, ServiceTimes]
"""Path, begin of an interval in seconds of the epoch, and what it came to."""


@dataclass(frozen=True, slots=True)
class ServiceSpec:
    """A path as it is asked: how (core/paths/kinds.py), whom and for what, and how often."""

    path: int
    kind: str
    target: Target
    every_s: float


@dataclass(slots=True)
class Open:
    """An interval that has not closed: of each time it was asked, how long that took, and what the answers told."""

    trips: list[float] = field(default_factory=list)
    answers: list[Asked] = field(default_factory=list)


@dataclass(slots=True)
class Asking:
    """A path that is asked."""

    spec: ServiceSpec
    task: asyncio.Task[None] | None = None
    open: dict[int, Open] = field(default_factory=dict)
    jitter: float = np.nan
    problem: str = ""


class Asker:
    """Asks services. Use it from one event loop only, and end it."""

    def __init__(self) -> None:
        self._paths: dict[int, Asking] = {}
        self._left: list[Asking] = []
        """Those that are asked no more, until what they came to has been taken."""

    def want(self, specs: Iterable[ServiceSpec]) -> None:
        """Ask these from now on, and no others; those that are as before go on."""
        wanted = {spec.path: spec for spec in specs}
        for path, asking in list(self._paths.items()):
            if wanted.get(path) != asking.spec:
                self._left.append(self._paths.pop(path))
                if asking.task:
                    asking.task.cancel()
        for place, (path, spec) in enumerate(wanted.items()):
            if path not in self._paths:
                asking = self._paths[path] = Asking(spec)
                asking.task = asyncio.create_task(_ask_always(asking, spec.every_s * (place * SPREAD % 1.0)))

    def closed(self, now: float) -> list[Told]:
        """Intervals for which nobody waits any more."""
        last = int((now - TIMEOUT_S) // INTERVAL_S)
        found = [told for asking in (*self._paths.values(), *self._left) for told in _closed(asking, last)]
        self._left = [asking for asking in self._left if asking.open]
        return found

    @property
    def problems(self) -> dict[int, str]:
        """Paths whose last answer did not come, or was not the right one, and why."""
        return {path: asking.problem for path, asking in self._paths.items() if asking.problem}

    async def end(self) -> None:
        """Stop asking."""
        tasks = [asking.task for asking in self._paths.values() if asking.task]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)


async def _ask_always(asking: Asking, first_s: float) -> None:
    due = time.time() + first_s
    while True:
        await asyncio.sleep(max(0.0, due - time.time()))
        at = time.time()
        kept = asking.open.setdefault(int(at // INTERVAL_S), Open())
        kept.trips.append(np.nan)
        place = len(kept.trips) - 1
        try:
            asked = await ASK[asking.spec.kind](asking.spec.target)
            kept.trips[place] = asked.took_us
            kept.answers.append(asked)
            asking.problem = asked.wrong
        except Fault as fault:
            asking.problem = str(fault)
        except Exception as error:
            log.exception("a probe failed", path=asking.spec.path, kind=asking.spec.kind)
            asking.problem = f"the probe failed: {error}"
        # What takes longer than its interval is asked again at once, but never twice at the same time.
        due = max(due + asking.spec.every_s, time.time())


def _closed(asking: Asking, last: int) -> Iterable[Told]:
    for interval in sorted(each for each in asking.open if each < last):
        kept = asking.open.pop(interval)
        trips = np.array(kept.trips)
        nothing = np.full(len(trips), np.nan)
        arrival = np.where(np.isnan(trips), -1, np.arange(len(trips)))
        told = summary(Answers(trips, arrival, nothing, nothing), asking.jitter)
        asking.jitter = told.jitter
        days = kept.answers[-1].certificate_days if kept.answers else None
        wrong = sum(bool(each.wrong) for each in kept.answers)
        parts = service_times([each.parts for each in kept.answers], wrong, days)
        yield asking.spec.path, interval * INTERVAL_S, told, parts
