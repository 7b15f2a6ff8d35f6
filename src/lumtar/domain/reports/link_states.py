"""Links and bridges as rules look at them: whether what hangs on what is as it should be, from what is stored of all devices."""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.measures.links import Bridges, Links
from lumtar.core.topology import Evidence
from lumtar.core.topology.impact import impact
from lumtar.domain.inventory.models import Device, DeviceState, Interface, Reach
from lumtar.domain.topology import expected, queries
from lumtar.domain.topology.expected import Difference
from lumtar.domain.topology.models import Bridge, Neighbour, PortLayer2
from lumtar.domain.topology.queries import SeenLink

UP, HALF, FULL = 1, 2, 3
HEARD_FOR = timedelta(minutes=12)
"""So long a link has to be heard at one end before the other one's silence counts: by then both were asked twice."""
MOST_DOWN = 50
"""Links that are down of which it is worked out who has one way left."""
MOST_NAMED = 8
VALUES = tuple(name for name in Links.__dataclass_fields__ if name != "facts")


@dataclass(frozen=True, slots=True)
class _Port:
    """A port as it was polled last."""

    device: int
    name: str
    duplex: int
    bps: int
    oper: int
    answers: bool

    @property
    def is_up(self) -> bool:
        return self.answers and self.oper == UP

    @property
    def is_down(self) -> bool:
        return self.answers and self.oper != UP


@dataclass(frozen=True, slots=True)
class _Heard:
    """Which devices tell of neighbours at all, which ports each of them hears, and what expected ones are called."""

    telling: frozenset[int]
    pairs: frozenset[tuple[int, int | None]]
    names: Mapping[int, str]

    @classmethod
    def now(cls, differs: Iterable[Difference]) -> "_Heard":
        pairs = frozenset(Neighbour.objects.filter(gone_at=None).values_list("device_id", "to_interface_id"))
        missed = {each.expected.device for each in differs if each.expected}
        names = dict(Device.objects.filter(pk__in=missed).values_list("pk", "name"))
        return cls(frozenset(device for device, _ in pairs), pairs, names)

    def hears(self, each: Difference) -> bool:
        """Whether the other end still hears this one: the link is one-way then, not lost."""
        return each.expected is not None and (each.expected.device, each.port) in self.pairs


@dataclass(slots=True)
class _Frame:
    """Values by subject, as they come."""

    values: dict[int, dict[str, float]] = field(default_factory=lambda: defaultdict(dict))
    facts: dict[int, dict[str, dict[str, Any]]] = field(default_factory=lambda: defaultdict(dict))

    def put(self, subject: int, name: str, value: float, **facts: Any) -> None:
        """A value of a link; where there are several, the worst."""
        known = self.values[subject].get(name)
        if known is None or value > known:
            self.values[subject][name] = value
            self.facts[subject][name] = facts

    def frame(self, also: Iterable[int]) -> tuple[NDArray[np.int64], Links]:
        """All subjects in their order; one of which nothing is known is as it should be."""
        numbers = np.array(sorted({*self.values, *also}), np.int64)
        columns = {
            name: np.array([self.values.get(each, {name: 0.0}).get(name, np.nan) for each in numbers.tolist()])
            for name in VALUES
        }
        return numbers, Links(**columns, facts=tuple(self.facts.get(each, {}) for each in numbers.tolist()))


def links_now(now: datetime, also: Iterable[int] = ()) -> tuple[NDArray[np.int64], Links]:
    """All links, each by the number of the lower one of its ports.

    Parameters
    ----------
    also : further ports that are told of, as those of which an alarm is active
    """
    seen = [each for each in queries.links_at(now, lost_for=queries.LOST_FOR) if each.link.evidence != Evidence.ITSELF]
    differs = expected.differences(now)
    ends = {end.port for each in seen for end in (each.link.a, each.link.b)}
    ends |= {end.port for each in differs for end in (each.expected, each.seen and each.seen.to) if end}
    members = _members()
    numbers = {*(each for each in ends if each is not None), *(each.port for each in differs), *members}
    ports = _ports(numbers | {port for each in members.values() for port in each})
    made, heard = _Frame(), _Heard.now(differs)
    for each in seen:
        _of_ends(made, each, ports, heard, now)
    _layer2(made, seen, ports, now)
    for difference in differs:
        _of_difference(made, difference, ports, heard)
    for values in made.values.values():
        if values.get("changed"):
            # Whoever sees somebody else does not see the one that is expected; that is one thing.
            values["lost"] = 0.0
    beyond = _beyond(seen)
    owner = {port: aggregate for aggregate, of in members.items() for port in of}
    for aggregate, of in members.items():
        peers = [owner[there] for port in of if (there := beyond.get(port)) in owner]
        down = [ports[port].name for port in of if port in ports and ports[port].is_down]
        share = 100.0 * len(down) / len(of)
        # Both ends are one aggregate.
        subject = min(aggregate, *peers) if peers else aggregate
        made.put(subject, "members_down", share, members_down=down[:MOST_NAMED], members=len(of))
    _alone(made, seen, ports)
    return made.frame(also)


def subject_of(each: SeenLink) -> int | None:
    """The port by which a link is known; None if no port of it is."""
    return min((end.port for end in (each.link.a, each.link.b) if end.port is not None), default=None)


def _ports(numbers: Iterable[int]) -> dict[int, _Port]:
    rows = Interface.objects.filter(pk__in=set(numbers), gone_at=None, device__retired_at=None)
    silent = set(DeviceState.objects.exclude(reach=Reach.ANSWERS).values_list("device_id", flat=True))
    return {
        pk: _Port(device, f"{called} {label}", duplex, bps or 0, oper or 0, device not in silent)
        for pk, device, called, label, duplex, bps, oper in rows.values_list(
            "pk", "device_id", "device__name", "label", "duplex", "newest__port_bps", "newest__oper"
        )
    }


def _members() -> dict[int, list[int]]:
    found: dict[int, list[int]] = defaultdict(list)
    rows = PortLayer2.objects.exclude(aggregate=None).filter(interface__device__retired_at=None)
    for aggregate, port in rows.order_by("interface__if_index").values_list("aggregate_id", "interface_id"):
        found[aggregate].append(port)
    return found


def _beyond(seen: Iterable[SeenLink]) -> dict[int, int]:
    """The port at the other end of each port."""
    pairs = [(each.link.a.port, each.link.b.port) for each in seen]
    return {a: b for one in pairs for a, b in (one, one[::-1]) if a is not None and b is not None}


def _both(each: SeenLink, ports: Mapping[int, _Port]) -> tuple[_Port, _Port] | None:
    """The two ports of a link, if both are known and up."""
    a, b = (ports.get(end.port or 0) for end in (each.link.a, each.link.b))
    return (a, b) if a and b and a.is_up and b.is_up else None


def _of_ends(made: _Frame, each: SeenLink, ports: Mapping[int, _Port], heard: _Heard, now: datetime) -> None:
    subject, both = subject_of(each), _both(each, ports)
    if subject is None:
        return
    # It is told of, so that what was raised about it can end.
    made.put(subject, "lost", 0.0)
    for name in ("changed", "unexpected"):
        made.put(subject, name, 0.0)
    if both is None or each.lost_at is not None:
        return
    a, b = both
    if a.bps and b.bps:
        made.put(subject, "slower_end", float(a.bps != b.bps), speeds=[a.bps, b.bps], ends=[a.name, b.name])
    if {a.duplex, b.duplex} <= {HALF, FULL}:
        half = a if a.duplex == HALF else b
        made.put(subject, "duplex", float(a.duplex != b.duplex), half=half.name, full=(b if half is a else a).name)
    if each.link.evidence in (Evidence.BOTH_ENDS, Evidence.ONE_END):
        # A device that tells of nobody is not deaf: it may only send.
        is_one_way = each.link.evidence is Evidence.ONE_END and each.link.b.device in heard.telling
        is_old = each.since < now - HEARD_FOR
        made.put(subject, "one_way", float(is_one_way and is_old), hears=a.name, unheard=b.name)


def _layer2(made: _Frame, seen: Iterable[SeenLink], ports: Mapping[int, _Port], now: datetime) -> None:
    rows = {row.pk: row for row in PortLayer2.objects.filter(interface__in=ports)}
    for each in seen:
        subject, both = subject_of(each), _both(each, ports)
        if subject is None:
            continue
        ends = [rows[end.port] for end in (each.link.a, each.link.b) if end.port is not None and end.port in rows]
        for row in ends:
            if row.stp_since is not None:
                age = (now - row.stp_since).total_seconds()
                made.put(row.pk, "role_age", age, role=row.stp_role)
        if both is None or len(ends) < 2 or each.lost_at is not None:
            continue
        (a, b), names = ends, [both[0].name, both[1].name]
        if a.mtu and b.mtu:
            made.put(subject, "mtu", float(a.mtu != b.mtu), mtus=[a.mtu, b.mtu], ends=names)
        if (a.tagged or a.untagged) and (b.tagged or b.untagged):
            mine, theirs = {*a.tagged, *a.untagged}, {*b.tagged, *b.untagged}
            made.put(
                subject, "vlans", float(len(mine ^ theirs)), ends=names,
                only=[sorted(mine - theirs)[:MOST_NAMED], sorted(theirs - mine)[:MOST_NAMED]],
            )  # fmt: skip


def _of_difference(made: _Frame, each: Difference, ports: Mapping[int, _Port], heard: _Heard) -> None:
    here = ports.get(each.port)
    if here is None or not here.answers:
        return
    beyond = ports.get(each.seen.to.port or 0) if each.seen and each.seen.to else None
    subject, seen = each.subject, beyond.name if beyond else each.seen.name if each.seen else ""
    there = ports.get(each.expected.port or 0) if each.expected else None
    wanted = there.name if there else heard.names.get(each.expected.device, "") if each.expected else ""
    if each.seen is not None:
        name = "changed" if each.expected else "unexpected"
        made.put(subject, name, 1.0, here=here.name, seen=seen, expected=wanted)
    elif here.is_up and (there is None or there.answers) and not heard.hears(each):
        made.put(subject, "lost", 1.0, here=here.name, expected=wanted)


def _alone(made: _Frame, seen: list[SeenLink], ports: Mapping[int, _Port]) -> None:
    """Of links that are down, who has one way left to the rest and would have two with it."""
    up, down = list[tuple[int, int]](), list[tuple[int, tuple[int, int]]]()
    for each in seen:
        known = [ports[end.port] for end in (each.link.a, each.link.b) if end.port is not None and end.port in ports]
        pair, subject = (each.link.a.device, each.link.b.device), subject_of(each)
        if any(port.is_down for port in known):
            if subject is not None:
                down.append((subject, pair))
        else:
            up.append(pair)
    for group, of in queries.transports().items():
        up += [(device, -group.pk) for port, device in of.items() if port not in ports or not ports[port].is_down]
    names = dict(Device.objects.values_list("pk", "name")) if down else {}
    for subject, pair in down[:MOST_DOWN]:
        left = sorted(names.get(each, "") for each in impact([*up, pair], without={len(up)}).one_way_left if each > 0)
        made.put(subject, "alone", float(len(left)), alone=left[:MOST_NAMED], down=ports[subject].name)
    for each in seen:
        if (number := subject_of(each)) is not None:
            made.put(number, "alone", 0.0)


HOUR = timedelta(hours=1)
MOVED = """SELECT s.device_id, count(DISTINCT s.mac) FROM topology_station s
    WHERE s.since > %(since)s AND s.since <= %(now)s AND EXISTS (
        SELECT 1 FROM topology_station o WHERE o.mac = s.mac AND o.interface_id <> s.interface_id
            AND o.since < s.since AND (o.gone_at IS NULL OR o.gone_at >= s.since - interval '10 minutes'))
    GROUP BY s.device_id"""
REBOUND = """SELECT b.device_id, count(DISTINCT b.address) FROM topology_binding b
    WHERE b.since > %(since)s AND b.since <= %(now)s AND EXISTS (
        SELECT 1 FROM topology_binding o WHERE o.address = b.address AND o.device_id = b.device_id AND o.mac <> b.mac
            AND o.since < b.since AND (o.gone_at IS NULL OR o.gone_at >= b.since - interval '10 minutes'))
    GROUP BY b.device_id"""
"""What came from elsewhere: it was there until shortly before, since two devices are not asked at the same time."""


def _lately(sql: str, now: datetime) -> dict[int, int]:
    """By device, how many came from elsewhere within an hour."""
    with connection.cursor() as cursor:
        cursor.execute(sql, {"since": now - HOUR, "now": now})
        return dict(cursor.fetchall())


def bridges_now(now: datetime, also: Iterable[int] = ()) -> tuple[NDArray[np.int64], Bridges]:
    """All bridges, and further devices that are told of."""
    rows = {
        device: (since, changes, root)
        for device, since, changes, root in Bridge.objects.filter(device__retired_at=None).values_list(
            "device_id", "root_since", "changes_per_hour", "root"
        )
    }
    moves, rebound = _lately(MOVED, now), _lately(REBOUND, now)
    numbers = sorted({*rows, *moves, *rebound, *also})

    def column(values: Iterable[float | None]) -> NDArray[np.float64]:
        return np.array([np.nan if value is None else value for value in values])

    blank = (None, None, "")
    ages = [(now - since).total_seconds() if (since := rows.get(each, blank)[0]) else None for each in numbers]
    return np.array(numbers, np.int64), Bridges(
        column(ages),
        column(rows.get(each, blank)[1] for each in numbers),
        column(float(moves.get(each, 0)) for each in numbers),
        column(float(rebound.get(each, 0)) for each in numbers),
        tuple({"root_age": {"root": rows.get(each, blank)[2]}} for each in numbers),
    )
