"""Many paths over a time at once, a coarse line of each: for pictures side by side."""

import math

import numpy as np
from django.http import HttpRequest
from ninja import Query
from pydantic import Field

from lumtar.core.measures import MEASURES
from lumtar.core.measures.paths import PATH
from lumtar.domain.paths import judging, levels, store
from lumtar.domain.paths.models import Path
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.numbers import known_values
from lumtar.server.api.paths import HOUR, Times
from lumtar.server.api.problems import Problem
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span

router = Router(tags=["paths"])
PIECES = 48
MOST_PATHS = 400


class CoursesAsked(Times):
    """Of which paths, and which measure."""

    paths: list[int] = Field(max_length=MOST_PATHS)
    measure: str = "path_delay_95"


class PathLine(Schema):
    """A path's values, a piece of the time in each place; nothing is not known."""

    id: int
    values: list[float | None]


class CoursesOut(Schema):
    """Lines of paths; ``at`` are the begins of the pieces in seconds of the epoch, which all of them have."""

    step_s: int
    at: list[float]
    rows: list[PathLine]


@router.get("/paths/courses", needs=VIEWER, response=CoursesOut)
def list_path_courses(request: HttpRequest, query: Query[CoursesAsked]) -> CoursesOut:
    """One measure of some paths over a time."""
    measure = MEASURES.get(query.measure)
    if measure is None or measure.subject != PATH:
        raise Problem(422, f"There is no measure of paths called {query.measure[:60]}.", "measure")
    start, end = span(query.start, query.end, HOUR)
    # What somebody may not see is not there for them.
    paths = sorted(Path.objects.filter(pk__in=query.paths).values_list("pk", flat=True))
    wanted = (end - start).total_seconds() / PIECES
    base = levels.base_of(start, wanted)
    step = max(base, math.ceil(wanted / base) * base)
    first = int(start.timestamp() // step) * step
    count = max(1, int(-(-(end.timestamp() - first) // step)))
    rows = levels.read_span(paths, start, end, base)
    pieces = ((rows["at"] - first) // step).astype("i8")
    whole = store.joined(rows, pieces)
    values = np.full((len(paths), count), np.nan)
    if len(whole):
        place = ((whole["at"] - first) // step).astype("i8")
        values[np.searchsorted(paths, whole["path"]), np.clip(place, 0, count - 1)] = measure.of(
            judging.frame_of(whole)
        )
    return CoursesOut(
        step_s=step,
        at=[float(first + step * place) for place in range(count)],
        rows=[PathLine(id=path, values=known_values(values[place])) for place, path in enumerate(paths)],
    )
