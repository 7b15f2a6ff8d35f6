"""Routes of paths: traced by the prober, kept while they are the same, and written down when they change."""

import asyncio
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.paths.routes import filled, is_other_route
from lumtar.domain.logbook.models import Entry
from lumtar.domain.paths import traced
from lumtar.domain.paths.models import Path, TracedRoute
from lumtar.engine.prober import tracer as tracing
from lumtar.engine.prober.tracer import Tracer
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.trace import Hop

NOW = datetime(2026, 11, 3, 9, tzinfo=UTC)
MINUTE = timedelta(minutes=1)
HOPS = st.lists(st.sampled_from(["", "192.0.2.1", "192.0.2.2"]), max_size=5)


@given(HOPS, HOPS)
def test_a_route_that_is_filled_up_is_still_the_same(before, now):
    assert not is_other_route(before, before)
    if not is_other_route(before, now):
        both = filled(before, now)
        assert not is_other_route(both, now) and not is_other_route(both, before)
        assert len(both) == max(len(before), len(now))


def test_a_route_is_kept_until_another_one_is_seen(db):
    path = Path.objects.create(name="To Hexwater", address="192.0.2.9")
    assert traced.note({path.pk: ["192.0.2.1", "", "192.0.2.9"], 999: ["192.0.2.7"]}, NOW) == 0
    assert traced.note({path.pk: ["192.0.2.1", "192.0.2.5", ""]}, NOW + MINUTE) == 0
    assert traced.note({path.pk: ["", "", ""]}, NOW + 2 * MINUTE) == 0
    (row,) = TracedRoute.objects.all()
    assert row.hops == ["192.0.2.1", "192.0.2.5", "192.0.2.9"] and (row.since, row.seen_at) == (NOW, NOW + MINUTE)
    assert traced.note({path.pk: ["192.0.2.1", "192.0.2.6", "192.0.2.9"]}, NOW + 3 * MINUTE) == 1
    assert TracedRoute.objects.count() == 2
    assert Entry.objects.get(text__startswith="the route").text == (
        "the route of To Hexwater is another one: 192.0.2.1 192.0.2.6 192.0.2.9 instead of 192.0.2.1 192.0.2.5 192.0.2.9"
    )


async def test_the_tracer_goes_round_and_one_that_cannot_be_reached_stops_nobody(monkeypatch):
    async def trace(address, traffic_class):
        if address == "192.0.2.1":
            raise Fault(FaultKind.UNREACHABLE, "cannot be reached")
        return [Hop("192.0.2.7", 1.0), Hop("", None), Hop(address, 2.0)]

    monkeypatch.setattr(tracing, "trace", trace)
    tracer = Tracer()
    tracer.want([(1, "192.0.2.1", 0), (2, "192.0.2.2", 184)])
    task = asyncio.create_task(tracer.work())
    for _ in range(100):
        await asyncio.sleep(0.01)
        if found := tracer.taken():
            break
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)
    assert found == {2: ["192.0.2.7", "", "192.0.2.2"]} and tracer.taken() == {}
