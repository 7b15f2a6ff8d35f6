"""Tables as files."""

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import pyarrow as pa
import pyarrow.parquet as pq
from django.http import HttpResponse

from lumtar.core.text import csv_line


def table_file(name: str, form: Literal["csv", "parquet"], columns: Mapping[str, Sequence[Any]]) -> HttpResponse:
    """A table that is held in memory, as CSV or Parquet."""
    if form == "parquet":
        sink = pa.BufferOutputStream()
        pq.write_table(pa.table(dict(columns)), sink)
        answer = HttpResponse(sink.getvalue().to_pybytes(), content_type="application/vnd.apache.parquet")
    else:
        lines = [csv_line(list(columns)), *(csv_line(list(row)) for row in zip(*columns.values(), strict=True))]
        answer = HttpResponse("".join(lines), content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}.{form}"'
    return answer
