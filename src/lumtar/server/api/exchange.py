"""Readings and sums as CSV and Parquet, streamed; readings from CSV."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from django.http import HttpRequest, StreamingHttpResponse
from ninja import Query
from numpy.typing import NDArray

from lumtar.core.devicelist import decoded
from lumtar.core.levels import SECONDS, Level, step_for
from lumtar.core.text import csv_line
from lumtar.core.units import counted
from lumtar.domain.logbook.services import note_action
from lumtar.domain.readings import exchange
from lumtar.domain.readings.sums import RATES
from lumtar.domain.reports import cells
from lumtar.server import limiting
from lumtar.server.api.access import ENGINEER, VIEWER, Router
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.scope import ScopeIn
from lumtar.server.api.times import span

router = Router(tags=["exchange"])
MOST_BYTES = 64 << 20
Name = tuple[str, str]
LEVELS = {level.replace(" ", "_"): level for level in Level}


class Selection(ScopeIn):
    """What to export. Without a level it is the finest that is below about a thousand rows a port."""

    format: Literal["csv", "parquet"] = "csv"
    level: Literal["", "readings", "five_minutes", "hours", "days"] = ""
    start: datetime | None = None
    end: datetime | None = None
    interfaces: list[int] = []


@router.get("/export/readings", needs=VIEWER)
def export(request: HttpRequest, query: Query[Selection]) -> StreamingHttpResponse:
    """Readings or sums of ports; times are the ends of what is summed up, UTC."""
    since, until = span(query.start, query.end, timedelta(days=1))
    wanted = set(query.interfaces)
    names: dict[int, Name] = {}
    for each in cells.of_devices(scope=query.scope):
        ports = zip(each.ids, each.names, strict=True)
        names |= {port: (each.name, name) for port, name in ports if not wanted or port in wanted}
    if not names:
        raise Problem(404, "There is no such port.")
    level = LEVELS[query.level] if query.level else _fitting((until - since).total_seconds())
    make = _parquet if query.format == "parquet" else _csv
    kind = "application/vnd.apache.parquet" if query.format == "parquet" else "text/csv; charset=utf-8"
    answer = StreamingHttpResponse(make(level, names, since, until), content_type=kind)
    answer["Content-Disposition"] = f'attachment; filename="{level.replace(" ", "-")}.{query.format}"'
    return answer


def _fitting(seconds: float) -> Level:
    step = step_for(seconds, 1500)
    return max((level for level in Level if SECONDS[level] <= step), key=SECONDS.__getitem__)


def _csv(level: Level, names: dict[int, Name], start: datetime, end: datetime) -> Iterator[str]:
    columns = exchange.columns(level)
    yield csv_line(["device", "interface", *columns])
    for interface, rows in exchange.rows(level, list(names), start, end):
        lines = []
        for row in rows:
            at = datetime.fromtimestamp(float(row["at"]), UTC).isoformat()
            lines.append(csv_line([*names[interface], at, *(_cell(row[name]) for name in columns[1:])]))
        yield "".join(lines)


def _cell(value: Any) -> int | float | str:
    if isinstance(value, np.floating):
        return "" if np.isnan(value) else float(value)
    return int(value)


class _Sink:
    """A file to write to, whose contents are taken out piece by piece."""

    def __init__(self) -> None:
        self.pieces: list[bytes] = []
        self.closed = False

    def write(self, data: bytes) -> int:
        self.pieces.append(bytes(data))
        return len(data)

    def flush(self) -> None: ...

    def close(self) -> None:
        self.closed = True

    def take(self) -> bytes:
        taken, self.pieces = b"".join(self.pieces), []
        return taken


def _parquet(level: Level, names: dict[int, Name], start: datetime, end: datetime) -> Iterator[bytes]:
    columns = exchange.columns(level)
    sink = _Sink()
    writer: pq.ParquetWriter | None = None
    empty = np.empty(0, [(name, "f8" if name in ("at", *RATES) else "i8") for name in columns])
    waiting: list[tuple[Name, NDArray[np.void]]] = []
    for interface, rows in exchange.rows(level, list(names), start, end):
        waiting.append((names[interface], rows))
        if sum(len(each) for _, each in waiting) >= 50_000:
            table = _table(columns, waiting)
            writer = writer or pq.ParquetWriter(pa.PythonFile(sink, mode="w"), table.schema)
            writer.write_table(table)
            waiting = []
            yield sink.take()
    table = _table(columns, waiting or [(("", ""), empty)])
    writer = writer or pq.ParquetWriter(pa.PythonFile(sink, mode="w"), table.schema)
    writer.write_table(table)
    writer.close()
    yield sink.take()


def _table(columns: tuple[str, ...], blocks: list[tuple[Name, NDArray[np.void]]]) -> pa.Table:
    lengths = [len(rows) for _, rows in blocks]
    named = {
        name: pa.array(np.repeat([each[place] for each, _ in blocks], lengths).astype(str)).dictionary_encode()
        for place, name in enumerate(("device", "interface"))
    }
    for name in columns:
        values = np.concatenate([rows[name] for _, rows in blocks])
        if name == "at":
            named[name] = pa.array(np.rint(values * 1e6).astype("i8")).cast(pa.timestamp("us", tz="UTC"))
        else:
            named[name] = pa.array(values, from_pandas=True)
    return pa.table(named)


class Taken(Schema):
    """Readings that were stored."""

    readings: int
    interfaces: int


@router.post("/import/readings", needs=ENGINEER.everywhere, response=Taken)
def take(request: HttpRequest) -> Taken:
    """Readings as CSV, in the form that they are exported in; all of them or none."""
    # Read past the limit for ordinary requests: a month of one port's minutes is several megabytes.
    body = request.read(MOST_BYTES + 1)
    if len(body) > MOST_BYTES:
        raise Problem(
            413, f"This is more than {MOST_BYTES >> 20} MiB. Import it in several parts, a few ports or days each."
        )
    with limiting.UPLOADS.taken():
        imported, stored = exchange.take(decoded(body).splitlines())
    if imported.problems:
        more = f" (and {len(imported.problems) - 1} more lines)" if len(imported.problems) > 1 else ""
        number, words = imported.problems[0]
        raise Problem(422, f"Nothing was taken. Line {number}: {words}{more}.")
    if not stored:
        raise Problem(422, "There is no reading in it.")
    ports = len({row[0] for row in imported.rows})
    words = f"{counted(stored, 'reading')} of {counted(ports, 'port').lower()} imported"
    note_action(words, request.user.get_username())
    return Taken(readings=stored, interfaces=ports)
