"""Watched traffic, and ports of exporters, as rules look at them: the last complete minute, and how it was."""

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.measures.traffic import FlowPorts, Strangers, Watched
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import applications, queries, response_times, watched
from lumtar.domain.flows.asking import IN, Asked, asked_of
from lumtar.domain.flows.halves import address_of
from lumtar.domain.flows.models import FanOut, FirstSeen, Stranger, WatchedTraffic
from lumtar.domain.flows.store import complete_until
from lumtar.domain.inventory.asking import subjects_for
from lumtar.domain.readings import series
from lumtar.domain.reports import flow_shares
from lumtar.domain.reports.traffic import known_addresses, service_name

MINUTE = timedelta(minutes=1)
MOST_NAMED = 5
Floats = NDArray[np.float64]


def watched_now(now: datetime, active: Iterable[int]) -> tuple[NDArray[np.int64], Watched]:
    """All watched traffic over the last complete minute."""
    del active
    start = complete_until(now) - MINUTE
    rows = list(WatchedTraffic.objects.order_by("pk"))
    new, names = watched.new_ones(now), applications.names()
    frames = [_frame(row.filters, start, 60, 1) for row in rows]
    columns = {
        name: np.concatenate([np.zeros(0), *(getattr(frame, name) for frame in frames)]) for name in MEASURED
    } | {
        "new_applications": np.array([len(new.get((row.pk, FirstSeen.Kind.APPLICATION), ())) for row in rows], "f8"),
        "new_senders": np.array([len(new.get((row.pk, FirstSeen.Kind.SENDER), ())) for row in rows], "f8"),
    }
    return np.array([row.pk for row in rows], np.int64), Watched(
        **columns, facts=tuple(_new_facts(row.pk, new, names) for row in rows)
    )


MEASURED = ("rate", "share", "packets", "senders", "receivers", "network_ms", "server_ms")


def _frame(filters: Mapping[str, str], begin: datetime, step_s: int, number: int) -> Watched:
    """So many steps of watched traffic; what is new in it is not known by this."""
    unknown = np.full(number, np.nan)
    try:
        asked = asked_of(filters)
        told = queries.in_steps(asked, begin, begin + number * timedelta(seconds=step_s), step_s, with_ends=True)
    except Refusal:
        # Its site was renamed or is gone: nothing is known of it, which is not the same as nothing.
        return Watched(**dict.fromkeys((*MEASURED, "new_applications", "new_senders"), unknown), facts=())
    columns = {name: np.zeros(number) for name in ("octets", "packets", "senders", "receivers")}
    for name, values in columns.items():
        values[told["slot"]] = told[name]
    network_ms, server_ms = _times(asked, begin, step_s, number)
    speed = _speed(asked)
    rate = 8 * columns["octets"] / step_s
    return Watched(
        rate=rate,
        share=100 * rate / speed if speed else unknown,
        packets=columns["packets"] / step_s,
        senders=columns["senders"],
        receivers=columns["receivers"],
        new_applications=unknown,
        new_senders=unknown,
        network_ms=network_ms,
        server_ms=server_ms,
    )


def _times(asked: Asked, begin: datetime, step_s: int, number: int) -> tuple[Floats, Floats]:
    columns = {name: np.full(number, np.nan) for name in ("network_ms", "server_ms")}
    try:
        told = response_times.in_steps(asked, begin, begin + number * timedelta(seconds=step_s), step_s)
    except Refusal:
        # Narrowed by something that response times are not kept by.
        return columns["network_ms"], columns["server_ms"]
    for name, values in columns.items():
        values[told["slot"]] = told[name]
    return columns["network_ms"], columns["server_ms"]


def _speed(asked: Asked) -> float:
    """The speed of the port that is asked about, one way; 0 if it is not known, or none is."""
    speed = series.newest_speeds([asked.interface]).get(asked.interface) if asked.interface is not None else None
    return float(speed.in_bps if asked.way == IN else speed.out_bps) if speed else 0.0


def _new_facts(pk: int, new: dict[tuple[int, int], list[tuple[int, int]]], names: dict[int, str]) -> dict[str, Any]:
    called = [
        names.get(number, f"application {number}")
        for _, number in new.get((pk, FirstSeen.Kind.APPLICATION), ())[:MOST_NAMED]
    ]
    senders = [address_of(hi, lo) for hi, lo in new.get((pk, FirstSeen.Kind.SENDER), ())[:MOST_NAMED]]
    return {"new_applications": {"names": called}, "new_senders": {"names": senders}}


def history(pk: int, start: datetime, end: datetime, step_s: int) -> tuple[Floats, Watched]:
    """How watched traffic was, at the end of each step; what was new then is not known any more."""
    begin = datetime.fromtimestamp(start.timestamp() // step_s * step_s, UTC)
    until = datetime.fromtimestamp(end.timestamp() // step_s * step_s, UTC)
    number = max(0, round((until - begin).total_seconds() / step_s))
    frame = _frame(WatchedTraffic.objects.get(pk=pk).filters, begin, step_s, number)
    return begin.timestamp() + step_s * np.arange(1, number + 1, dtype=np.float64), frame


def flow_ports_now(now: datetime, active: Iterable[int]) -> tuple[NDArray[np.int64], FlowPorts]:
    """The ports of exporters over the last minutes: only those by which flows went lately, and those with an alarm."""
    end = complete_until(now)
    ports = sorted((flow_shares.telling(now) | set(active)) & subjects_for("flow_port", ""))
    explained: dict[int, tuple[float, int]] = {}
    begun = flow_shares.received_since(now)
    shares = flow_shares.shares(ports, now) if begun is not None and begun <= end - flow_shares.OVER else {}
    for (port, way), (told, counted) in shares.items():
        explained[port] = min(explained.get(port, (np.inf, 0)), (100 * told / counted, way))
    reached: dict[int, FanOut] = {}
    tried: dict[int, FanOut] = {}
    for row in FanOut.objects.filter(at__gte=end - MINUTE, at__lt=end, interface__in=ports):
        for found, name in ((reached, "receivers"), (tried, "ports")):
            if getattr(row, name) > (getattr(found[row.interface_id], name) if row.interface_id in found else 0):
                found[row.interface_id] = row
    names = known_addresses({row.sender for row in (*reached.values(), *tried.values())})

    def facts(port: int) -> dict[str, Any]:
        told: dict[str, Any] = {"explained": {"way": "in" if explained.get(port, (0, 0))[1] == IN else "out"}}
        for name, rows in (("fan_out", reached), ("ports_tried", tried)):
            if row := rows.get(port):
                told[name] = {"sender": f"{row.sender} {names.get(row.sender, '')}".strip(), "receiver": row.receiver}
        return told

    frame = FlowPorts(
        np.array([explained[port][0] if port in explained else np.nan for port in ports], np.float64),
        np.array([float(reached[port].receivers) if port in reached else 0.0 for port in ports]),
        np.array([float(tried[port].ports) if port in tried else 0.0 for port in ports]),
        tuple(facts(port) for port in ports),
    )
    return np.array(ports, np.int64), frame


MOST_STRANGERS = 200
"""Strangers that are told of one by one; if there are more, the list does not fit the network."""
SEEN_FOR = timedelta(hours=1)


def strangers_now(now: datetime, active: Iterable[int]) -> tuple[NDArray[np.int64], Strangers]:
    """Strangers that nobody accepted: those seen lately, and those with an alarm."""
    open_ones = Stranger.objects.filter(accepted_at=None, known__enabled=True).select_related("interface__device")
    lately = list(open_ones.filter(last_at__gt=now - SEEN_FOR).order_by("first_at")[:MOST_STRANGERS])
    known = {row.pk: row for row in lately} | {row.pk: row for row in open_ones.filter(pk__in=active)}
    rows = [known[pk] for pk in sorted(known)]

    def facts(row: Stranger) -> dict[str, Any]:
        where = f"{row.interface.device} {row.interface.label}" if row.interface else ""
        told = {
            "address": row.address,
            "where": where,
            "peer": row.peer,
            "service": service_name(row.protocol, row.port),
        }
        return {"seen": told, "octets": told}

    return np.array([row.pk for row in rows], np.int64), Strangers(
        np.array([float(row.last_at > now - SEEN_FOR) for row in rows]),
        np.array([float(row.octets) for row in rows]),
        tuple(map(facts, rows)),
    )
