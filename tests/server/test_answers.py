"""Large answers, which are sent without a second look at each figure."""

import json
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import get_origin

import pytest
from django.utils import timezone
from ninja import Schema
from pydantic import TypeAdapter

from lumtar.domain.paths.models import Path
from lumtar.domain.readings.models import Gap
from lumtar.server.api.answers import as_it_is
from lumtar.server.api.charts import LinesOut, SeriesOut
from lumtar.server.api.fleet import Ports
from lumtar.server.api.paths import PathOut
from lumtar.server.api.totals import Grid
from tests.network import fill

pytestmark = pytest.mark.django_db


class Inner(Schema):
    at: datetime


@dataclass(slots=True)
class Outer:
    inner: Inner
    values: list[float | None]


def test_models_times_and_what_is_not_known_have_their_usual_form():
    told = as_it_is(Outer(Inner(at=datetime(2026, 11, 23, 12, tzinfo=UTC)), [1.5, None, float("nan")]))
    assert told.headers["Content-Type"] == "application/json"
    assert json.loads(told.content) == {"inner": {"at": "2026-11-23T12:00:00Z"}, "values": [1.5, None, None]}


def test_what_json_has_no_form_for_is_a_mistake():
    with pytest.raises(TypeError):
        as_it_is({"what": object()})


def test_what_is_sent_unseen_is_what_the_schema_promises(client, user):
    """The answer of each such call, taken apart by the very types that the API's description is made from."""
    device, _ = fill(2.0)
    port = device.interfaces.get(if_index=1)
    end = timezone.now()
    Gap.objects.create(device=device, start=end - timedelta(hours=1), end=end, reason="silent", words="no answer")
    Path.objects.create(name="Depot – Hexwater", address="127.0.9.9")
    span = {"start": (end - timedelta(hours=2)).isoformat(), "end": end.isoformat()}
    calls = {
        f"interfaces/{port.pk}/series": (SeriesOut, span),
        "series": (LinesOut, span),
        "grid": (Grid, span),
        "interfaces": (Ports, {}),
        "paths": (list[PathOut], span),
    }
    for path, (promised, asked) in calls.items():
        answer = client.get(f"/api/v1/{path}", asked)
        assert answer.status_code == 200, path
        told = TypeAdapter(promised).validate_json(answer.content)
        assert type(told) is (get_origin(promised) or promised) and told
    series = client.get(f"/api/v1/interfaces/{port.pk}/series", span).json()
    assert [gap["words"] for gap in series["gaps"]] == ["no answer"] and series["inward"]["volume"] > 0
