"""Who uses what for what: totals of conversations over a time, in the order of volume, and their course."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.refusal import Refusal
from lumtar.domain.flows.asking import IN, OUT, Asked, conditions
from lumtar.domain.flows.levels import CONVERSATIONS, levels_of, steps
from lumtar.domain.readings import bulk

MOST_ROWS = 500
LINES = 8
"""So many are drawn apart; the rest together."""
BY: dict[str, tuple[str, ...]] = {
    "application": ("application",),
    "sender": ("src_hi", "src_lo", "is_rest"),
    "receiver": ("dst_hi", "dst_lo", "is_rest"),
    "conversation": ("src_hi", "src_lo", "dst_hi", "dst_lo", "protocol", "port", "application", "is_rest"),
    "site": ("src_site", "dst_site"),
    "port": ("protocol", "port", "is_rest"),
    "protocol": ("protocol",),
    "DSCP": ("dscp",),
}
"""What conversations are put together by."""


@dataclass(slots=True)
class Row:
    """What is put together under a key, and how much it is."""

    key: tuple[int, ...]
    octets: int
    packets: int
    flows: int
    line: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    """Octets of each step."""


@dataclass(slots=True)
class Traffic:
    """Conversations put together, in the order of their volume.

    Attributes
    ----------
    start, end : what was read, rounded to whole steps
    step_s : seconds of a step
    whole : octets of each step, of all of them
    number : how many keys there are
    is_fine : whether it was read from minutes
    """

    start: datetime
    end: datetime
    step_s: int
    rows: list[Row]
    whole: NDArray[np.float64]
    octets: int
    number: int
    is_fine: bool


def read(asked: Asked, by: str, start: datetime, end: datetime, limit: int = 50) -> Traffic:
    """Conversations over a time, put together.

    Raises
    ------
    Refusal
    """
    if by not in BY:
        raise Refusal(f"Traffic is put together by {', '.join(BY)}.", "by")
    values: dict[str, Any] = {}
    where = conditions(asked, values)
    is_fine = CONVERSATIONS.is_fine(start, end)
    begin, step = steps(start, end, is_fine=is_fine)
    source = levels_of(asked).source(begin, end, values, is_fine=is_fine)
    keys = BY[by]
    # What was put together is one row, whatever application or protocol it is of.
    named = ", ".join(
        f"CASE WHEN is_rest THEN 0 ELSE {key} END AS {key}" if "is_rest" in keys and key != "is_rest" else key
        for key in keys
    )
    listed = ", ".join(keys)
    # What was put together is no conversation, however much it is.
    last = "is_rest, " if "is_rest" in keys else ""
    most = max(1, min(limit, MOST_ROWS))
    values |= {"limit": most, "step": step, "lines": min(LINES, most)}
    slot = "floor((date_part('epoch', at) - date_part('epoch', %(start)s::timestamptz)) / %(step)s)::int"
    whole = "ARRAY[" + ", ".join(f"{key}::int::int8" if key == "is_rest" else f"{key}::int8" for key in keys) + "]"
    with connection.cursor() as cursor:
        # Rows are gone through once: what they come to by step is ranked, and only the courses of the largest are looked up again in it.
        cursor.execute(
            f"""WITH stepped AS MATERIALIZED (
                SELECT {slot} AS slot, {named}, sum(octets) AS o, sum(packets) AS p, sum(flows) AS f
                FROM ({source}) level WHERE {" AND ".join(where)} GROUP BY slot, {", ".join(map(str, range(2, 2 + len(keys))))}
            ), summed AS MATERIALIZED (
                SELECT {listed}, sum(o) AS o, sum(p) AS p, sum(f) AS f FROM stepped GROUP BY {listed}
            ), ranked AS MATERIALIZED (
                SELECT *, row_number() OVER (ORDER BY {last}o DESC) AS place FROM summed ORDER BY {last}o DESC LIMIT %(limit)s
            ), course AS (
                SELECT 0::bigint AS place, slot, sum(o) AS o FROM stepped GROUP BY slot
                UNION ALL SELECT r.place, s.slot, s.o FROM ranked r JOIN stepped s ON {" AND ".join(f"r.{key} = s.{key}" for key in keys)}
                WHERE r.place <= %(lines)s
            )
            SELECT place, least(o, 9e18)::int8, least(p, 9e18)::int8, f::int8, (SELECT count(*) FROM summed),
                least((SELECT sum(o) FROM summed), 9e18)::int8, {whole}, NULL::int FROM ranked
            UNION ALL SELECT place, least(o, 9e18)::int8, 0, 0, 0, 0, NULL, slot FROM course ORDER BY 8 NULLS FIRST, 1""",
            values,
        )
        found = cursor.fetchall()
    number_of_steps = max(1, int(np.ceil((end - begin).total_seconds() / step)))
    made = Traffic(begin, end, step, [], np.zeros(number_of_steps), 0, 0, is_fine)
    for place, octets, packets, flows, number, whole, key, slot in found:
        if slot is None:
            made.rows.append(Row(tuple(key), int(octets), int(packets), int(flows)))
            made.number, made.octets = number, int(whole)
        elif 0 <= slot < number_of_steps:
            if place:
                row = made.rows[place - 1]
                if not len(row.line):
                    row.line = np.zeros(number_of_steps)
                row.line[slot] += octets
            else:
                made.whole[slot] += octets
    return made


FAR = np.dtype(
    [("hi", "i8"), ("lo", "i8"), ("kind", "i8"), ("slot", "i8"), ("octets", "f8"), ("packets", "f8"), ("flows", "f8")]
)
FAR_END, INSIDE, PUT_TOGETHER = 0, 1, 2
"""Whether a conversation has an end elsewhere, both at sites of ours, or was put together with others."""


def read_far(
    asked: Asked,
    number_of: Callable[[NDArray[np.uint64], NDArray[np.uint64]], NDArray[np.integer[Any]]],
    start: datetime,
    end: datetime,
    limit: int = 50,
) -> Traffic:
    """Conversations put together by something that is known of whoever is elsewhere.

    Parameters
    ----------
    number_of : from addresses, as two numbers, that by which they are put together

    Returns
    -------
    rows whose key is FAR_END and the number, or another kind and 0

    Raises
    ------
    Refusal
    """
    is_fine = CONVERSATIONS.is_fine(start, end)
    begin, step = steps(start, end, is_fine=is_fine)
    values: dict[str, Any] = {"step": step}
    where = " AND ".join(conditions(asked, values))
    source = CONVERSATIONS.source(begin, end, values, is_fine=is_fine)
    far = {half: f"CASE WHEN src_site = 0 THEN src_{half} ELSE dst_{half} END" for half in ("hi", "lo")}
    kind = (
        f"CASE WHEN is_rest THEN {PUT_TOGETHER} WHEN src_site <> 0 AND dst_site <> 0 THEN {INSIDE} ELSE {FAR_END} END"
    )
    rows = bulk.fetch(
        f"""SELECT CASE WHEN kind = {FAR_END} THEN hi ELSE 0 END, CASE WHEN kind = {FAR_END} THEN lo ELSE 0 END, kind::bigint, slot::bigint,
            sum(octets)::float8, sum(packets)::float8, sum(flows)::float8
        FROM (SELECT {far["hi"]} AS hi, {far["lo"]} AS lo, {kind} AS kind, octets, packets, flows,
            floor((date_part('epoch', at) - date_part('epoch', %(start)s::timestamptz)) / %(step)s)::int AS slot
            FROM ({source}) level WHERE {where}) far GROUP BY 1, 2, 3, 4""",
        values,
        [(name, FAR[name].str[1:]) for name in FAR.names or ()],
    )
    number = np.where(rows["kind"] == FAR_END, number_of(rows["hi"].astype("u8"), rows["lo"].astype("u8")), 0)
    keys, place = np.unique(np.stack((rows["kind"], number), axis=1), axis=0, return_inverse=True)
    number_of_steps = max(1, int(np.ceil((end - begin).total_seconds() / step)))
    course = np.zeros((len(keys), number_of_steps))
    np.add.at(course, (place.reshape(-1), np.clip(rows["slot"], 0, number_of_steps - 1)), rows["octets"])
    packets, flows = (np.bincount(place.reshape(-1), rows[name], len(keys)) for name in ("packets", "flows"))
    octets = course.sum(axis=1)
    # What was put together has no end of its own, however much it is.
    order = sorted(range(len(keys)), key=lambda each: (keys[each][0] == PUT_TOGETHER, -octets[each]))
    most = max(1, min(limit, MOST_ROWS))
    found = [
        Row(
            (int(keys[each][0]), int(keys[each][1])), int(octets[each]), int(packets[each]), int(flows[each]),
            course[each] if position < LINES else np.zeros(0),
        )
        for position, each in enumerate(order[:most])
    ]  # fmt: skip
    return Traffic(begin, end, step, found, course.sum(axis=0), int(octets.sum()), len(keys), is_fine)


COUNTED = """SELECT extract(epoch FROM at)::float8, elapsed_ms, in_octets, out_octets FROM readings_reading
    WHERE interface_id = %(interface)s AND at > %(start)s AND at <= %(end)s + interval '15 minutes' AND elapsed_ms > 0 ORDER BY at"""


def counted(interface: int, start: datetime, end: datetime, step_s: int) -> NDArray[np.float64]:
    """Octets that an interface counted itself in each step, in and out: (steps, 2); NaN where that is not known, or not yet.

    A reading is spread evenly over the time since the one before it, since polls do not begin with minutes. Only as far back as readings
    are kept.
    """
    steps = max(1, int(np.ceil((end - start).total_seconds() / step_s)))
    with connection.cursor() as cursor:
        cursor.execute(COUNTED, {"start": start, "end": end, "interface": interface})
        rows = np.array([tuple(map(float, row)) for row in cursor.fetchall()]).reshape(-1, 4)
    if not len(rows):
        return np.full((steps, 2), np.nan)
    edges = np.minimum(start.timestamp() + step_s * np.arange(steps + 1), end.timestamp())
    at = np.concatenate((rows[:1, 0] - rows[:1, 1] / 1000, rows[:, 0]))
    upto = np.concatenate((np.zeros((1, 2)), np.cumsum(rows[:, 2:], axis=0)))
    made = np.stack([np.diff(np.interp(edges, at, upto[:, way])) for way in (IN, OUT)], axis=1)
    made[(edges[1:] > at[-1]) | (edges[:-1] < at[0])] = np.nan
    return made


STEPS_OF = np.dtype([("slot", "i8"), ("octets", "f8"), ("packets", "f8"), ("senders", "f8"), ("receivers", "f8")])
"""What conversations come to in one of equal steps of time, from the first one on."""


def in_steps(asked: Asked, start: datetime, end: datetime, step_s: int, *, with_ends: bool = False) -> NDArray[np.void]:
    """What conversations come to in each step in which there are some: a row of STEPS_OF each.

    Senders and receivers are counted where they were kept one by one, if ``with_ends``; that costs a sort.
    """
    values: dict[str, Any] = {"step": step_s}
    where = conditions(asked, values)
    source = CONVERSATIONS.source(start, end, values, is_fine=step_s < 3600)
    slot = "floor((date_part('epoch', at) - date_part('epoch', %(start)s::timestamptz)) / %(step)s)::int"
    ends = (
        ", ".join(f"count(DISTINCT ({end}_hi, {end}_lo)) FILTER (WHERE NOT is_rest)" for end in ("src", "dst"))
        if with_ends
        else "0, 0"
    )
    with connection.cursor() as cursor:
        cursor.execute(
            f"""SELECT {slot}, sum(octets)::float8, sum(packets)::float8, {ends} FROM ({source}) level
            WHERE {" AND ".join(where)} GROUP BY 1 ORDER BY 1""",
            values,
        )
        return np.array(cursor.fetchall(), STEPS_OF)


def course(asked: Asked, start: datetime, end: datetime, step_s: int) -> NDArray[np.float64]:
    """Octets of conversations in each step."""
    made = np.zeros(max(0, int((end - start).total_seconds() // step_s)))
    rows = in_steps(asked, start, end, step_s)
    rows = rows[(rows["slot"] >= 0) & (rows["slot"] < len(made))]
    made[rows["slot"]] = rows["octets"]
    return made


def keys(asked: Asked, start: datetime, end: datetime) -> dict[int, list[tuple[int, int]]]:
    """Applications (0) and senders (1) of a time, as pairs of numbers; of an application the first one is 0."""
    values: dict[str, Any] = {}
    where = " AND ".join(conditions(asked, values))
    source = CONVERSATIONS.source(start, end, values, is_fine=CONVERSATIONS.is_fine(start, end))
    with connection.cursor() as cursor:
        cursor.execute(
            f"""WITH mine AS MATERIALIZED (SELECT application, src_hi, src_lo, is_rest FROM ({source}) level WHERE {where})
            SELECT DISTINCT 0, 0::bigint, application::bigint FROM mine
            UNION ALL SELECT DISTINCT 1, src_hi, src_lo FROM mine WHERE NOT is_rest""",
            values,
        )
        found: dict[int, list[tuple[int, int]]] = {0: [], 1: []}
        for kind, hi, lo in cursor.fetchall():
            found[kind].append((hi, lo))
        return found


def before(asked: Asked, by: str, found: Traffic, earlier: timedelta) -> dict[tuple[int, ...], int]:
    """What the same keys had so much earlier: octets, and nothing of those that had none.

    Only the largest ones of that time are looked at; one that was smaller than all of these counts as new.
    """
    then = read(asked, by, found.start - earlier, found.end - earlier, MOST_ROWS)
    return {row.key: row.octets for row in then.rows}
