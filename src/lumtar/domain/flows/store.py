"""Storing totals of conversations: appended by COPY, summed up to hours, dropped when they are old."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from uuid import UUID

import numpy as np
from django.db import connection, transaction
from numpy.typing import NDArray

from lumtar.core.flows.totals import Conversations
from lumtar.domain.flows.halves import signed
from lumtar.domain.flows.models import FanOut
from lumtar.domain.inventory.models import Interface
from lumtar.domain.operation import due
from lumtar.domain.operation.due import Sums
from lumtar.domain.operation.partitioned import Partitioned
from lumtar.domain.readings import bulk
from lumtar.domain.readings.services import claim_batch

MINUTES = Partitioned("flows_minute", timedelta(hours=1), timedelta(days=2))
HOURS = Partitioned("flows_hour", timedelta(days=1), timedelta(days=92))
NETWORK_HOURS = Partitioned("flows_networkhour", timedelta(days=7), HOURS.kept)
"""Of all exporters together, each conversation once: questions about the whole network read a fraction of the rows."""
RECORDS = Partitioned("flows_record", timedelta(hours=6), timedelta(days=7))
RESPONSE_MINUTES = Partitioned("flows_responseminute", timedelta(hours=6), timedelta(days=7))
RESPONSE_HOURS = Partitioned("flows_responsehour", timedelta(days=7), timedelta(days=400))
TABLES = (MINUTES, HOURS, NETWORK_HOURS, RECORDS, RESPONSE_MINUTES, RESPONSE_HOURS)
FLOW_HOURS, RESPONSES_OF_HOURS = (Sums(name, timedelta(hours=1)) for name in ("flows: hours", "flows: response hours"))
MOST_OF_AN_HOUR = 200
"""Conversations of an interface, way and hour that are kept one by one; the rest is put together."""
MOST_OF_THE_NETWORK = 2_000
"""Conversations of an hour that are kept one by one for the whole network."""
MOST_SCANS = 500
"""Senders with many receivers that are kept of a minute."""
GRACE = timedelta(minutes=3)
"""So long after its end a minute is stored at the latest: exporters tell of a flow when it ends."""
COLUMNS = (
    ("src_hi", "i8"), ("src_lo", "i8"), ("dst_hi", "i8"), ("dst_lo", "i8"), ("octets", "i8"), ("packets", "i8"), ("flows", "i8"),
    ("application", "i4"), ("src_site", "i4"), ("dst_site", "i4"), ("port", "i4"), ("protocol", "i2"),
    ("way", "i2"),
)  # fmt: skip
KEY = "interface_id, way, src_hi, src_lo, dst_hi, dst_lo, protocol, port, dscp, application, src_site, dst_site, is_rest, is_counted"


@transaction.atomic
def append(rows: Conversations, batch: UUID | None = None, table: Partitioned = MINUTES) -> None:
    """Append totals of minutes (of hours to HOURS); with the number of a batch once, however often it is tried."""
    if not len(rows) or (batch is not None and not claim_batch(batch)):
        return
    signed = {
        name: rows[name].view("i8") if rows[name].flags.c_contiguous else rows[name].astype("u8").view("i8")
        for name in ("src_hi", "src_lo", "dst_hi", "dst_lo")
    }
    columns: list[bulk.Column] = [
        ("interface_id", "i8", rows["interface"].astype("i8")),
        ("at", "at", rows["minute"].astype("f8") * 60),
    ]
    columns += [(name, code, signed.get(name, rows[name])) for name, code in COLUMNS]
    columns += [
        ("dscp", "i2", rows["tos"]),
        ("is_rest", "?", rows["is_rest"].astype(bool)),
        ("is_counted", "?", rows["is_counted"].astype(bool)),
    ]
    bulk.copy(table.name, columns)
    if table is MINUTES:
        due.note([FLOW_HOURS], rows["minute"] * 60.0)


def append_scans(several: Sequence[NDArray[np.void]]) -> None:
    """Append senders with many receivers (core/flows/scans.py); of a minute the largest."""
    if not several:
        return
    rows = np.concatenate(several)
    # A port may have been deleted since it was seen.
    there = Interface.objects.filter(pk__in=set(rows["interface"].tolist())).values_list("pk", flat=True)
    rows = rows[np.isin(rows["interface"], list(there))]
    rows = rows[np.argsort(-(rows["receivers"].astype("i8") + rows["ports"]), kind="stable")][:MOST_SCANS]
    FanOut.objects.bulk_create(
        FanOut(
            at=datetime.fromtimestamp(int(each["minute"]) * 60, UTC), interface_id=int(each["interface"]),
            src_hi=signed(int(each["src_hi"])), src_lo=signed(int(each["src_lo"])), receivers=int(each["receivers"]),
            ports=int(each["ports"]), dst_hi=signed(int(each["dst_hi"])), dst_lo=signed(int(each["dst_lo"])),
            octets=min(int(each["octets"]), 2**63 - 1),
        )
        for each in rows
    )  # fmt: skip


def complete_until(now: datetime) -> datetime:
    """The end of the last minute of which everything is stored."""
    return datetime.fromtimestamp((now - GRACE).timestamp() // 60 * 60, UTC)


def ensure_ahead(now: datetime) -> None:
    """Make the partitions of all tables for more than a day."""
    for table in TABLES:
        table.ensure_ahead(now)


def drop_old(now: datetime) -> int:
    """Drop what is older than it is kept. Returns how many partitions."""
    FanOut.objects.filter(at__lt=now - MINUTES.kept).delete()
    return sum(table.drop_old(now) for table in TABLES)


def roll_up(start: datetime) -> int:
    """Sum an hour up from its minutes, anew. Returns the rows written.

    The largest conversations of an interface and way are kept; of the others the application, sites, protocol and DSCP stay exact.
    """
    end = start + timedelta(hours=1)
    whole = f"""SELECT %(start)s::timestamptz AS at, sum(octets) AS octets, sum(packets) AS packets, sum(flows) AS flows, {KEY}
        FROM {MINUTES} WHERE at >= %(start)s AND at < %(end)s GROUP BY {KEY}"""
    for table in (HOURS, NETWORK_HOURS):
        table.ensure(start, start)
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(f"DELETE FROM {HOURS} WHERE at = %s", [start])
        cursor.execute(_summing(HOURS, whole, "interface_id, way", MOST_OF_AN_HOUR), {"start": start, "end": end})
        rows = int(cursor.rowcount)
        sum_network_up(start, end)
    return rows


def sum_network_up(start: datetime, end: datetime) -> None:
    """Sum hours up over the whole network, from hours, anew."""
    key = KEY.replace("interface_id, way", "0 AS interface_id, 0 AS way")
    grouped = KEY.replace("interface_id, way, ", "")
    whole = f"""SELECT at, sum(octets) AS octets, sum(packets) AS packets, sum(flows) AS flows, {key}
        FROM {HOURS} WHERE at >= %(start)s AND at < %(end)s AND is_counted GROUP BY at, {grouped}"""
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(f"DELETE FROM {NETWORK_HOURS} WHERE at >= %s AND at < %s", [start, end])
        cursor.execute(_summing(NETWORK_HOURS, whole, "at", MOST_OF_THE_NETWORK), {"start": start, "end": end})


def _summing(table: Partitioned, whole: str, of_each: str, most: int) -> str:
    """A statement that fills a table: the largest conversations of each, and the others put together."""
    return f"""INSERT INTO {table} (at, octets, packets, flows, {KEY})
        WITH whole AS ({whole}), ranked AS (
            SELECT *, is_rest OR row_number() OVER (PARTITION BY {of_each}, is_rest ORDER BY octets DESC) > {most} AS small
            FROM whole
        )
        SELECT at, least(sum(octets), 9e18), least(sum(packets), 9e18), sum(flows), interface_id, way,
            CASE WHEN small THEN 0 ELSE src_hi END AS a, CASE WHEN small THEN 0 ELSE src_lo END AS b,
            CASE WHEN small THEN 0 ELSE dst_hi END AS c, CASE WHEN small THEN 0 ELSE dst_lo END AS d,
            protocol, CASE WHEN small THEN 0 ELSE port END AS e, dscp, application, src_site, dst_site, small, is_counted
        FROM ranked GROUP BY at, interface_id, way, a, b, c, d, protocol, e, dscp, application, src_site, dst_site, small, is_counted"""
