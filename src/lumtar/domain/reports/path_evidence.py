"""Evidence of probes and of real traffic: whether paths, services and servers were as they usually are."""

from collections.abc import Iterable, Sequence
from datetime import timedelta

import numpy as np
from django.db.models import Q
from numpy.typing import NDArray

from lumtar.core.paths.kinds import KINDS
from lumtar.core.units import counted
from lumtar.core.verdict import Side, spans
from lumtar.domain.flows import response_times
from lumtar.domain.flows.asking import Asked
from lumtar.domain.flows.halves import address_of
from lumtar.domain.paths import levels, store
from lumtar.domain.paths.models import Path, TracedRoute
from lumtar.domain.paths.traced import words_of
from lumtar.domain.reports.evidence import PAUSE_S, Asking
from lumtar.domain.reports.traffic import known_addresses

BEFORE = timedelta(days=7)
"""What is usual is taken from so long before."""
FACTOR, LEAST_MS = 2.0, 20.0
"""Something is slower than usual if it takes so many times as long, and at least so much longer."""
LEAST_SERVER_MS = 100.0
LOSS_PERCENT, LEAST_LOST = 1.0, 3
Floats = NDArray[np.float64]


def paths_between(sites: tuple[int | None, int | None]) -> list[Path]:
    """The paths that are probed between two sites; if there are none, those that lead to either of them."""
    if None in sites or sites[0] == sites[1]:
        return []
    there, back = Q(from_site=sites[0], to_site=sites[1]), Q(from_site=sites[1], to_site=sites[0])
    found = list(Path.objects.filter(there | back, enabled=True))
    if found:
        return found
    # Nothing measures between the two: what leads to either of them from the same place tells of half of the way.
    return list(Path.objects.filter(to_site__in=sites, enabled=True))


def look_at_paths(asking: Asking, rows: Sequence[Path]) -> None:
    """Compare what probes came to with the week before."""
    if not rows:
        asking.unseen.append("delay and loss: no path between the two is probed")
        return
    numbers = [row.pk for row in rows]
    for route in TracedRoute.objects.filter(
        path__in=numbers, since__gt=asking.start, since__lt=asking.end
    ).select_related("path"):
        at = route.since.timestamp()
        asking.note(
            "change",
            Side.NEITHER,
            f"the route of {route.path} became {words_of(route.hops)}",
            at,
            at,
            page=f"/paths/{route.path_id}",
        )
    step = levels.width_of(asking.start, asking.end)
    now = levels.read_span(numbers, asking.start, asking.end, step)
    before = store.read(numbers, asking.start - BEFORE, asking.start, store.HOURS)
    calm = []
    for row in rows:
        mine, earlier = levels.drawn(now[now["path"] == row.pk], step), before[before["path"] == row.pk]
        if not len(mine):
            continue
        found = _look_at_packets if KINDS[row.kind].is_packet else _look_at_service
        if not found(asking, row, mine, earlier, step):
            calm.append((row, float(np.nanmedian(mine["p50"])) / 1000 if np.isfinite(mine["p50"]).any() else np.nan))
    packets = [ms for row, ms in calm if KINDS[row.kind].is_packet and np.isfinite(ms)]
    if packets:
        took = " to ".join(dict.fromkeys((_ms(min(packets)), _ms(max(packets)))))
        asking.usual.append(
            f"probes over {counted(len(packets), 'path').lower()} took {took} there and back, as before"
        )


def _worse(values: Floats, usual: float, least: float) -> NDArray[np.bool_]:
    with np.errstate(invalid="ignore"):
        return np.asarray((values > max(FACTOR * usual, usual + least)) & np.isfinite(values))


def _median(values: Floats) -> float:
    known = values[np.isfinite(values)]
    return float(np.median(known)) if len(known) else np.nan


def _look_at_packets(asking: Asking, row: Path, mine: store.Rows, earlier: store.Rows, step: float) -> bool:
    """Whether a path was worse than usual."""
    at, count = (mine["at"] + step).tolist(), len(asking.findings)
    usual = _median(earlier["p50"]) / 1000
    delays, loss = mine["p50"] / 1000, 100 * mine["lost"] / np.maximum(mine["sent"], 1)
    length = (asking.end - asking.start).total_seconds()
    for since, until in spans(at, (loss > LOSS_PERCENT).tolist(), step, PAUSE_S):
        inside = (mine["at"] >= since) & (mine["at"] < until)
        lost = 100 * mine["lost"][inside].sum() / max(1, mine["sent"][inside].sum())
        if mine["lost"][inside].sum() < LEAST_LOST or lost < LOSS_PERCENT:
            continue
        words = f"{lost:.1f} % of the probes over {row.name} were lost"
        if lost > 99:
            words = f"nobody answered at the end of {row.name}"
        weight = min(0.95, 0.45 + 0.2 * min(1.0, (until - since) / length) + 0.3 * min(1.0, lost / 50))
        asking.note("loss", Side.NETWORK, words, since, until, weight, f"/paths/{row.pk}")
    for since, until in spans(at, _worse(delays, usual, LEAST_MS).tolist(), step, PAUSE_S):
        most = float(np.nanmax(delays[(mine["at"] >= since) & (mine["at"] < until)]))
        words = f"{row.name} took {_ms(most)} there and back instead of {_ms(usual)}"
        if until - since > step:
            asking.note("delay", Side.NETWORK, words, since, until, 0.6, f"/paths/{row.pk}")
    return len(asking.findings) > count


def _look_at_service(asking: Asking, row: Path, mine: store.Rows, earlier: store.Rows, step: float) -> bool:
    """Whether a service answered later than usual or wrongly, and whether that was the network's part of it."""
    at, count = (mine["at"] + step).tolist(), len(asking.findings)
    whole, connected = mine["p50"] / 1000, mine["connected"] / 1000
    usual, usual_connected = _median(earlier["p50"]) / 1000, _median(earlier["connected"]) / 1000
    for since, until in spans(at, _worse(whole, usual, LEAST_SERVER_MS).tolist(), step, PAUSE_S):
        inside = (mine["at"] >= since) & (mine["at"] < until)
        reached = _median(connected[inside])
        if until - since <= step:
            continue
        slower = float(np.nanmax(whole[inside])) - usual
        # The network is to blame if reaching the service makes up most of what it takes longer.
        if _worse(np.array([reached]), usual_connected, LEAST_MS)[0] and reached - usual_connected > slower / 2:
            words = f"{row.name} was reached within {_ms(reached)} instead of {_ms(usual_connected)}"
            asking.note("delay", Side.NETWORK, words, since, until, 0.6, f"/paths/{row.pk}")
            continue
        words = f"{row.name} took {_ms(float(np.nanmax(whole[inside])))} for an answer instead of {_ms(usual)}"
        if np.isfinite(reached):
            words += f", while the connection stood within {_ms(reached)}"
        asking.note("service", Side.SERVICE, words, since, until, 0.75, f"/paths/{row.pk}")
    failing = 100 * (mine["lost"] + mine["wrong"]) / np.maximum(mine["sent"], 1)
    for since, until in spans(at, (failing > LOSS_PERCENT).tolist(), step, PAUSE_S):
        inside = (mine["at"] >= since) & (mine["at"] < until)
        failed = int((mine["lost"][inside] + mine["wrong"][inside]).sum())
        if failed < LEAST_LOST:
            continue
        words = f"{row.name} failed {100 * failed / mine['sent'][inside].sum():.0f} % of the probes"
        asking.note("service", Side.SERVICE, words, since, until, 0.7, f"/paths/{row.pk}")
    return len(asking.findings) > count


def _ms(value: float) -> str:
    if value >= 1000:
        return f"{value / 1000:.1f} s"
    return f"{value:.0f} ms" if value >= 10 else f"{value:.1f} ms"


def look_at_answers(asking: Asking) -> None:
    """Response times of the traffic between the two sites, as exporters told of them."""
    here, there = asking.sites
    if here is None or there is None or here == there:
        return
    asked = Asked(src_site=here, dst_site=there)
    now = response_times.read(asked, "server", asking.start, asking.end, 5)
    if now.whole.network.ms is None and now.whole.server.ms is None:
        asking.unseen.append("how long servers take for real traffic between the two: no exporter tells")
        return
    before = response_times.read(asked, "server", asking.start - BEFORE, asking.start, 200)
    usual = {row.key: row for row in before.rows}
    page = f"/traffic?list=times&src_site={here}&dst_site={there}"
    begin, end = asking.start.timestamp(), asking.end.timestamp()
    network, earlier = now.whole.network.ms, before.whole.network.ms
    if network is not None and earlier is not None:
        if network > max(FACTOR * earlier, earlier + LEAST_MS):
            words = f"traffic between the two took {_ms(network)} there and back instead of {_ms(earlier)}"
            asking.note("answers", Side.NETWORK, words, begin, end, 0.6, page)
        else:
            asking.usual.append(
                f"traffic between the two took {_ms(network)} there and back, as before ({_ms(earlier)})"
            )
    for row in now.rows:
        known = usual.get(row.key)
        ms, base = row.server.ms, known.server.ms if known else None
        if ms is not None and base is not None and ms > max(FACTOR * base, base + LEAST_SERVER_MS):
            name = _server(row.key)
            words = f"the server {name} took {_ms(ms)} for an answer instead of {_ms(base)}"
            asking.note("answers", Side.SERVICE, words, begin, end, 0.75, page)


def _server(key: Iterable[int]) -> str:
    hi, lo = list(key)[:2]
    address = address_of(hi, lo)
    return known_addresses({address}).get(address, address)
