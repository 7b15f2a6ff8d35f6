"""Run measurements by name: ``./lumtar bench [poll] [cycle] [largest] [api] [alarm] [list] [sweep]
[fleet] [store] [draw] [rules] [faults] [storm] [refresh] [calling] [topology]
[traps] [flows] [drills] [malformed] [paths] [pathlist] [pathyear] [failover]``; without names, all of them.
"""

import signal
import sys
from collections.abc import Callable

from bench import (
    calling,
    drawing,
    failover,
    faults,
    flows,
    malformed,
    paths,
    polling,
    refreshing,
    rules,
    serving,
    store,
    storm,
    sweeping,
    topology,
    traps,
)

MEASUREMENTS: dict[str, Callable[[], None]] = {
    "poll": polling.poll,
    "cycle": polling.cycle,
    "largest": polling.largest,
    "api": serving.api,
    "alarm": serving.alarm,
    "list": serving.lists,
    "sweep": sweeping.sweep,
    "fleet": serving.fleet,
    "store": store.store,
    "draw": drawing.draw,
    "rules": rules.rules,
    "faults": faults.faults,
    "storm": storm.storm,
    "refresh": refreshing.refresh,
    "calling": calling.calling,
    "topology": topology.topology,
    "traps": traps.traps,
    "flows": flows.flows,
    "drills": flows.drills,
    "malformed": malformed.malformed,
    "paths": paths.paths,
    "pathlist": paths.many,
    "pathyear": paths.year,
    "failover": failover.failover,
}


def main(names: list[str]) -> int:
    """Run the named measurements, each to its end."""
    unknown = [name for name in names if name not in MEASUREMENTS]
    if unknown:
        print(f"bench: there is no measurement {unknown[0]!r}; there are {', '.join(MEASUREMENTS)}", file=sys.stderr)
        return 1
    # Ended from outside, a measurement still ends its own processes.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
    for name in names or MEASUREMENTS:
        MEASUREMENTS[name]()
    return 0


sys.exit(main(sys.argv[1:]))
