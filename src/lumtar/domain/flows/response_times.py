"""Response times as they are stored, summed up to hours, and asked for: the network's apart from the server's."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.core.flows.response_times import SUMS, Responses
from lumtar.core.refusal import Refusal
from lumtar.domain.flows.asking import Asked, address_halves, ports_of_group
from lumtar.domain.flows.levels import RESPONSES, steps
from lumtar.domain.flows.store import RESPONSE_HOURS, RESPONSE_MINUTES, RESPONSES_OF_HOURS
from lumtar.domain.operation import due
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.readings import bulk
from lumtar.domain.readings.services import claim_batch

MOST_ROWS = 500
BY: dict[str, tuple[str, ...]] = {
    "application": ("application",),
    "server": ("server_hi", "server_lo", "protocol", "port", "is_rest"),
    "site": ("client_site", "server_site"),
    "exporter": ("device_id",),
}
"""What response times are put together by."""
KEY = "device_id, in_id, out_id, server_hi, server_lo, application, client_site, server_site, port, protocol, is_rest"
NAMES = ", ".join(SUMS)
ADDED = ", ".join(f"{'max' if name.endswith('longest_us') else 'sum'}({name}) AS {name}" for name in SUMS)
SLOT = "floor((date_part('epoch', at) - date_part('epoch', %(start)s::timestamptz)) / %(step)s)::int"


@transaction.atomic
def append(rows: Responses, batch: UUID | None = None, table: Partitioned = RESPONSE_MINUTES) -> None:
    """Append response times of minutes (of hours to RESPONSE_HOURS); with the number of a batch once, however often it is tried."""
    if not len(rows) or (batch is not None and not claim_batch(batch)):
        return
    plain = (("application", "i4"), ("client_site", "i4"), ("server_site", "i4"), ("port", "i4"), ("protocol", "i2"))
    columns: list[bulk.Column] = [
        ("device_id", "i8", rows["device"]), ("at", "at", rows["minute"].astype("f8") * 60), ("in_id", "i8", rows["input"]),
        ("out_id", "i8", rows["output"]), ("is_rest", "?", rows["is_rest"].astype(bool)),
    ]  # fmt: skip
    columns += [(name, "i8", rows[name].astype("u8").view("i8")) for name in ("server_hi", "server_lo")]
    columns += [(name, "i8", np.minimum(rows[name], np.uint64(2**62))) for name in SUMS]
    columns += [(name, code, rows[name]) for name, code in plain]
    bulk.copy(table.name, columns)
    if table is RESPONSE_MINUTES:
        due.note([RESPONSES_OF_HOURS], rows["minute"] * 60.0)


@transaction.atomic
def roll_up(start: datetime) -> int:
    """Sum an hour up from its minutes, anew. Returns the rows written."""
    RESPONSE_HOURS.ensure(start, start)
    with connection.cursor() as cursor:
        cursor.execute(f"DELETE FROM {RESPONSE_HOURS} WHERE at = %s", [start])
        cursor.execute(
            f"""INSERT INTO {RESPONSE_HOURS} (at, {NAMES}, {KEY}) SELECT %(start)s, {ADDED}, {KEY} FROM {RESPONSE_MINUTES}
            WHERE at >= %(start)s AND at < %(end)s GROUP BY {KEY}""",
            {"start": start, "end": start + timedelta(hours=1)},
        )
        return int(cursor.rowcount)


@dataclass(slots=True)
class Mean:
    """Mean and longest response time, milliseconds, over so many answers; nothing where there is none."""

    ms: float | None
    longest_ms: float | None
    number: int


def _mean(total: Any, number: Any, longest: Any) -> Mean:
    number = int(number or 0)
    return Mean(float(total) / number / 1e3, float(longest) / 1e3, number) if number else Mean(None, None, 0)


@dataclass(slots=True)
class Row:
    """What is put together under a key."""

    key: tuple[int, ...]
    network: Mean
    server: Mean


@dataclass(slots=True)
class Told:
    """Response times over a time, the longest first; ``network`` and ``server`` are means of each step in milliseconds, NaN where there is none.

    ``number`` is how many rows there are in all.
    """

    start: datetime
    end: datetime
    step_s: int
    network: NDArray[np.float64]
    server: NDArray[np.float64]
    whole: Row
    rows: list[Row] = field(default_factory=list)
    number: int = 0


def conditions(asked: Asked, values: dict[str, Any]) -> list[str]:
    """The conditions of a question over response times, whose values are added. Both directions of a port have the same.

    Raises
    ------
    Refusal
    """
    if asked.dscp is not None or asked.within:
        raise Refusal(
            "Response times are kept by application, server, site and port; not by DSCP, AS, country or place."
        )
    where = []
    for name, condition in (
        ("application", "application = %(application)s"), ("port", "port = %(port)s"), ("protocol", "protocol = %(protocol)s"),
        ("device", "device_id = %(device)s"), ("interface", "(in_id = %(interface)s OR out_id = %(interface)s)"),
        ("site", "(client_site = %(site)s OR server_site = %(site)s)"),
        ("src_site", "(client_site = %(src_site)s OR server_site = %(src_site)s)"),
        ("dst_site", "(client_site = %(dst_site)s OR server_site = %(dst_site)s)"),
    ):  # fmt: skip
        if (value := getattr(asked, name)) is not None:
            where.append(condition)
            values[name] = value
    for name in ("sender", "receiver", "address"):
        if halves := address_halves(asked, name):
            where.append(f"(server_hi = %({name}_hi)s AND server_lo = %({name}_lo)s AND NOT is_rest)")
            values[f"{name}_hi"], values[f"{name}_lo"] = halves
    if asked.group is not None:
        ports = ports_of_group(asked.group, values)
        where.append(f"(in_id IN (SELECT id FROM ({ports}) g) OR out_id IN (SELECT id FROM ({ports}) g))")
    return where or ["TRUE"]


def read(asked: Asked, by: str, start: datetime, end: datetime, limit: int = 50) -> Told:
    """Response times over a time, put together.

    Raises
    ------
    Refusal
    """
    if by not in BY:
        raise Refusal(f"Response times are put together by {', '.join(BY)}.", "by")
    values: dict[str, Any] = {"limit": max(1, min(limit, MOST_ROWS))}
    where = " AND ".join(conditions(asked, values))
    is_fine = RESPONSES.is_fine(start, end)
    begin, step = steps(start, end, is_fine=is_fine)
    values["step"] = step
    source = RESPONSES.source(begin, end, values, is_fine=is_fine)
    keys = ", ".join(BY[by])
    # What was put together is no server, however long it took.
    last = "is_rest, " if "is_rest" in BY[by] else ""
    whole = ", ".join(f"{key}::int" if key == "is_rest" else key for key in BY[by])
    with connection.cursor() as cursor:
        # Ranked by how long an answer takes with the network; by that which is known of it.
        cursor.execute(
            f"""WITH chosen AS MATERIALIZED (SELECT * FROM ({source}) s WHERE {where}),
            ranked AS (
                SELECT ARRAY[{whole}]::int8[] AS key, {ADDED}, count(*) OVER () AS of FROM chosen GROUP BY {keys}
                ORDER BY {last}coalesce(sum(network_us) / nullif(sum(network_number), 0), 0)
                    + coalesce(sum(server_us) / nullif(sum(server_number), 0), 0) DESC, 1 LIMIT %(limit)s
            )
            SELECT NULL::int8[], {SLOT}, {ADDED}, 0 FROM chosen GROUP BY 2
            UNION ALL SELECT key, -1, {NAMES}, of FROM ranked""",
            values,
        )
        found = cursor.fetchall()
    number = max(1, int(np.ceil((end - begin).total_seconds() / step)))
    told = Told(begin, end, step, np.full(number, np.nan), np.full(number, np.nan), _whole(found))
    for key, slot, *sums, of in found:
        network, server = _mean(*sums[:3]), _mean(*sums[3:])
        if key is not None:
            told.rows.append(Row(tuple(key), network, server))
            told.number = of
        elif 0 <= slot < number:
            told.network[slot] = np.nan if network.ms is None else network.ms
            told.server[slot] = np.nan if server.ms is None else server.ms
    return told


def _whole(found: list[tuple[Any, ...]]) -> Row:
    steps = [row[2:8] for row in found if row[0] is None]
    columns = list(zip(*steps, strict=True)) if steps else [(0,)] * 6
    joined = [max(each) if place in (2, 5) else sum(each) for place, each in enumerate(columns)]
    return Row((), _mean(*joined[:3]), _mean(*joined[3:]))


STEP_OF = np.dtype([("slot", "i8"), ("network_ms", "f8"), ("server_ms", "f8")])


def in_steps(asked: Asked, start: datetime, end: datetime, step_s: int) -> NDArray[np.void]:
    """Mean response times of each step in which there are some, milliseconds: a row of STEP_OF each, NaN is not known.

    Raises
    ------
    Refusal
    """
    values: dict[str, Any] = {"step": step_s}
    where = " AND ".join(conditions(asked, values))
    source = RESPONSES.source(start, end, values, is_fine=step_s < 3600)
    with connection.cursor() as cursor:
        cursor.execute(
            f"""SELECT {SLOT}, coalesce(sum(network_us) / nullif(sum(network_number), 0) / 1000.0, 'NaN')::float8,
                coalesce(sum(server_us) / nullif(sum(server_number), 0) / 1000.0, 'NaN')::float8
            FROM ({source}) s WHERE {where} GROUP BY 1""",
            values,
        )
        return np.array(cursor.fetchall(), STEP_OF)
