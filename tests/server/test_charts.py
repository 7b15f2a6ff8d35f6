"""Charts, totals, grids, storage, and readings in and out, as a client of the API sees them."""

import csv
import io
from datetime import UTC, datetime, timedelta

import pyarrow.parquet as pq
import pytest
from django.contrib.auth.models import User
from django.core.management import CommandError, call_command

from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Interface
from lumtar.domain.logbook.models import Entry
from lumtar.domain.readings import rollups
from lumtar.domain.readings.models import Due, FiveMinutes, Hour, LiveReading, LiveState, LiveWish, Reading
from tests.alarms import transition
from tests.network import fill
from tests.server.calls import get, is_problem

pytestmark = pytest.mark.django_db


@pytest.fixture
def network(user):
    return fill(3.0)


@pytest.fixture
def port(network):
    return Interface.objects.get(device=network[1], if_index=1)


def iso(at):
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


def whole_hours(hours):
    end = rollups.hour_of(datetime.now(UTC))
    return {"start": iso(end - timedelta(hours=hours)), "end": iso(end)}


class TestChart:
    def test_what_is_seen_in_figures(self, client, port):
        found = get(client, f"interfaces/{port.pk}/series", points=1500)
        rows = list(Reading.objects.filter(interface=port).order_by("at"))
        assert found["inward"]["volume"] == sum(row.in_octets for row in rows)
        assert found["inward"]["packets"] == sum(row.in_packets for row in rows)
        rated = [row for row in rows if row.elapsed_ms]
        seconds = sum(row.elapsed_ms for row in rated) / 1000
        assert found["outward"]["mean"] == pytest.approx(sum(row.out_octets for row in rated) * 8 / seconds)
        assert found["larger_p95"] >= max(found["inward"]["p95"], found["outward"]["p95"]) - 1
        assert found["both_p95"] >= found["larger_p95"]

    def test_sums_and_readings_say_the_same(self, client, port):
        span = whole_hours(2)
        fine = get(client, f"interfaces/{port.pk}/series", points=1500, **span)
        coarse = get(client, f"interfaces/{port.pk}/series", points=10, **span)
        assert (fine["source"], coarse["source"]) == ("readings", "five minutes")
        for name in ("inward", "outward", "larger_p95", "both_p95", "measured"):
            assert coarse[name] == pytest.approx(fine[name])

    def test_the_calculation_of_a_sum(self, client, network):
        broken = Interface.objects.get(device=network[0], if_index=1)
        end = datetime.now(UTC).replace(second=0, microsecond=0) - timedelta(minutes=5)
        told = get(client, f"interfaces/{broken.pk}/calculation", at=iso(end), step=7200)[0]
        assert told["lines"][1].startswith("sum of ")
        assert "missing" in told["lines"][1]
        rows = Reading.objects.filter(interface=broken, at__gt=end - timedelta(hours=2), at__lte=end)
        octets = sum(row.in_octets for row in rows if not row.flags & 16)
        assert told["lines"][0].startswith(f"{octets:,} octets counted")

    @pytest.mark.parametrize(
        ("span", "words"),
        [
            ({"start": "2026-11-20T00:00:00Z", "end": "2026-11-19T00:00:00Z"}, "ends before it starts"),
            ({"start": "1926-01-01T00:00:00Z"}, "A time must be between"),
            ({"start": "1995-01-01T00:00:00Z"}, "longer than"),
        ],
    )
    def test_ranges_that_cannot_be_shown(self, client, port, span, words):
        assert is_problem(client.get(f"/api/v1/interfaces/{port.pk}/series", span), 422, words)

    def test_five_years_and_other_zones(self, client, port):
        start = datetime.now(UTC) - timedelta(days=5 * 365)
        assert get(client, f"interfaces/{port.pk}/series", start=iso(start))["inward"]["volume"] > 0
        utc = get(
            client, f"interfaces/{port.pk}/series", start="2026-10-25T00:00:00+00:00", end="2026-10-25T04:00:00+00:00"
        )
        same = get(
            client, f"interfaces/{port.pk}/series", start="2026-10-25T02:00:00+02:00", end="2026-10-25T05:00:00+01:00"
        )
        assert utc["at"] == same["at"]


class TestTogether:
    def test_the_total_is_the_sum_of_the_lines(self, client, network):
        found = get(client, "series", site="Saltby", points=100, **whole_hours(2))
        assert found["ports"] == len(found["lines"]) == 4
        place = len(found["at"]) // 2
        values = [line["in_bps"][place] or 0 for line in found["lines"]]
        assert found["total"]["in_bps"][place] == pytest.approx(sum(values), abs=1)
        means = [sum(value or 0 for value in line["in_bps"] + line["out_bps"]) for line in found["lines"]]
        assert means == sorted(means, reverse=True)

    def test_chosen_ports_alone(self, client, port, network):
        other = Interface.objects.get(device=network[0], if_index=2)
        found = get(client, "series", interfaces=[port.pk, other.pk], lines=1)
        assert found["ports"] == 2 and len(found["lines"]) == 1

    def test_too_many_and_none(self, client, network):
        Interface.objects.bulk_create(Interface(device=network[0], if_index=n, name=f"x{n}") for n in range(100, 700))
        assert is_problem(client.get("/api/v1/series"), 422, "These are 608 ports; 500 at most")
        assert is_problem(client.get("/api/v1/series", {"interfaces": 99999999}), 404, "no such port")


class TestTop:
    def test_the_busiest_first_with_exact_volumes(self, client, network, port):
        found = get(client, "top", **whole_hours(2))
        loads = [row["load"] for row in found["rows"]]
        assert loads == sorted(loads, reverse=True) and found["rows"][0]["label"] == "Transport A"
        span = {"at__gt": found["start"], "at__lte": found["end"]}
        for row in found["rows"]:
            rows = Reading.objects.filter(interface=row["id"], **span)
            assert row["volume"] == sum(each.in_octets + each.out_octets for each in rows)

    @pytest.mark.parametrize("by", ["peak", "in", "out", "volume", "errors", "change"])
    def test_by_every_measure(self, client, network, by):
        assert get(client, "top", by=by)["by"] == by

    def test_the_emptiest_say_when_they_were_used(self, client, network):
        found = get(client, "top", by="volume", lowest="true", site="Saltby")
        volumes = [row["volume"] for row in found["rows"]]
        assert volumes == sorted(volumes) and {row["site"] for row in found["rows"]} == {"Saltby"}

    def test_what_is_no_measure(self, client, network):
        assert is_problem(client.get("/api/v1/top", {"by": "beauty"}), 422, "There is no measure 'beauty'")


class TestGrid:
    def test_every_port_with_state_and_load(self, client, network):
        found = get(client, "grid", **whole_hours(1))
        device = next(each for each in found["devices"] if each["name"] == "sal-acc-1")
        assert device["names"] == ["g1", "g2", "g3", "g4"]
        assert device["states"] == ["up", "up", "up", "unused"]
        assert device["values"][0] > 0

    def test_of_one_role_or_with_words(self, client, network):
        Interface.objects.filter(device=network[0], if_index=2).update(role="wan")
        assert [each["names"] for each in get(client, "grid", role="wan")["devices"]] == [["g2"]]
        assert [each["labels"] for each in get(client, "grid", words="transport")["devices"]] == [["Transport A"]] * 2
        assert is_problem(client.get("/api/v1/grid", {"by": "beauty"}), 422, "by")


class TestStorage:
    def test_what_is_kept_is_seen_and_changed(self, client, network):
        found = get(client, "storage")
        assert [level["level"] for level in found["levels"]] == ["readings", "five minutes", "hours", "days"]
        wanted = {"edition": found["edition"], "readings": 7, "five_minutes": 30, "hours": 400, "days": 1000}
        changed = client.put("/api/v1/storage", wanted, "application/json").json()
        assert [level["days"] for level in changed["levels"]] == [7, 30, 400, 1000]
        assert Entry.objects.filter(by="anna", text__startswith="kept for days: readings 7").exists()
        assert is_problem(client.put("/api/v1/storage", wanted, "application/json"), 409, "anna changed this")
        wanted |= {"edition": changed["edition"], "five_minutes": 3}
        assert is_problem(client.put("/api/v1/storage", wanted, "application/json"), 422, "at least as long")

    def test_sums_are_built_anew_by_command(self, network, capsys):
        Hour.objects.update(in_octets=-1)
        call_command("rebuild")
        assert "sums written" in capsys.readouterr().out
        assert not Hour.objects.filter(in_octets=-1).exists()
        with pytest.raises(CommandError, match="behind the last"):
            call_command("rebuild", "--from", "2026-11-20", "--to", "2026-11-01")


class TestExchange:
    def exported(self, client, **more):
        answer = client.get("/api/v1/export/readings", {"level": "readings", **more})
        assert answer.status_code == 200, answer.content
        return b"".join(answer.streaming_content)

    def test_there_and_back_loses_nothing(self, client, network):
        before = list(Reading.objects.order_by("interface_id", "at").values())
        hours = list(Hour.objects.order_by("interface_id", "at").values())
        told = self.exported(client)
        Reading.objects.filter(interface__device=network[1]).delete()
        Reading.objects.update(in_octets=5)
        answer = client.post("/api/v1/import/readings", told, "text/csv")
        assert answer.json() == {"readings": len(before), "interfaces": 8}
        assert Entry.objects.filter(text=f"{len(before):,} readings of eight ports imported", by="anna").exists()
        assert list(Reading.objects.order_by("interface_id", "at").values()) == before
        assert Due.objects.exists()
        FiveMinutes.objects.update(in_octets=-1)
        rollups.roll_up_due(datetime.now(UTC))
        assert list(Hour.objects.order_by("interface_id", "at").values()) == hours

    def test_parquet_holds_the_same(self, client, port):
        table = pq.read_table(io.BytesIO(self.exported(client, format="parquet", interfaces=port.pk)))
        lines = list(csv.DictReader(io.StringIO(self.exported(client, interfaces=port.pk).decode())))
        assert table.num_rows == len(lines) > 100
        assert table.column("in_octets").to_pylist() == [int(line["in_octets"]) for line in lines]
        assert [at.isoformat() for at in table.column("at").to_pylist()] == [line["at"] for line in lines]
        assert set(table.column("device").to_pylist()) == {"sal-acc-1"}

    @pytest.mark.parametrize("level", ["five_minutes", "hours", "days", ""])
    def test_sums_of_every_level(self, client, network, level):
        lines = list(csv.DictReader(io.StringIO(self.exported(client, level=level).decode())))
        assert level == "days" or sum(int(line["in_octets"]) for line in lines) > 0
        assert pq.read_table(io.BytesIO(self.exported(client, level=level, format="parquet"))).num_rows == len(lines)

    @pytest.mark.parametrize(
        ("change", "words"),
        [
            (lambda text: "a;b;c\n1;2;3", "the header lacks device"),
            (lambda text: "", "the header lacks device"),
            (lambda text: text.replace("sal-acc-1", "gone-1"), "no interface 'g1' of a device 'gone-1'"),
            (lambda text: text.replace("+00:00", ""), "has no time zone"),
            (lambda text: text.replace("2026-", "MMXXVI-").replace("2027-", "MMXXVII-"), "is not a time"),
            (lambda text: text.replace("2026-", "2016-").replace("2027-", "2016-"), "cannot be stored"),
            (lambda text: text.replace(",1\r\n", ",9\r\n"), "oper must be between 0 and 7"),
            (lambda text: text.replace(",1\r\n", ",up\r\n"), "oper is not a whole number"),
            (lambda text: text.splitlines()[0], "no reading in it"),
        ],
    )
    def test_bad_input_is_refused_whole(self, client, port, change, words):
        told = self.exported(client, interfaces=port.pk).decode()
        before = Reading.objects.count()
        answer = client.post("/api/v1/import/readings", change(told), "text/csv")
        assert is_problem(answer, 422, words)
        assert Reading.objects.count() == before

    def test_more_than_an_ordinary_request_may_hold(self, client, port, settings):
        told = self.exported(client, interfaces=port.pk)
        settings.DATA_UPLOAD_MAX_MEMORY_SIZE = 1000
        assert client.post("/api/v1/import/readings", told, "text/csv").json()["interfaces"] == 1

    def test_nothing_to_export(self, client, network):
        assert is_problem(client.get("/api/v1/export/readings", {"site": "Nowhere"}), 404, "no such port")


def test_strangers_get_none_of_it(client, network):
    client.logout()
    for path in ("series", "top", "grid", "storage", "export/readings"):
        assert client.get(f"/api/v1/{path}").status_code == 401
    assert User.objects.exists()


class TestForecasts:
    def test_every_direction_with_a_plain_word(self, client, network):
        found = get(client, "forecasts", site="Saltby")
        assert len(found) == 8 and {row["way"] for row in found} == {"in", "out"}
        assert {row["words"][:24] for row in found} == {"The history is too short"}

    def test_too_many_at_once(self, client, network):
        Interface.objects.bulk_create(Interface(device=network[0], if_index=n, name=f"x{n}") for n in range(100, 2200))
        assert is_problem(client.get("/api/v1/forecasts"), 422, "2,000 at most")


def test_looks_are_asked_for_and_read_with_one_call(client, port):
    now = datetime.now(UTC)
    for ago, octets in ((4, 250_000), (2, 500_000)):
        LiveReading.objects.create(
            interface=port,
            at=now - timedelta(seconds=ago),
            elapsed_ms=2000,
            in_octets=octets,
            out_octets=0,
            flags=0,
            oper=1,
        )
    LiveState.objects.create(device=port.device, at=now, every_s=8.0, took_ms=2000.0)
    body = {"interfaces": [port.pk], "every_s": 2}
    told = client.post("/api/v1/live", body, "application/json").json()
    assert told["ports"][0]["in_bps"] == [1e6, 2e6]
    assert told["ports"][0]["seconds"] == [2.0, 2.0]
    assert told["devices"][0]["words"] == "takes 2000 ms to answer, so it is looked at every 8 seconds only"
    assert LiveWish.objects.get().by == "anna"
    again = client.post("/api/v1/live", {**body, "after": told["at"]}, "application/json").json()
    assert again["ports"][0]["at"] == [] and again["at"] == told["at"]
    assert client.delete("/api/v1/live").status_code == 204
    assert not LiveWish.objects.exists()
    refused = client.post("/api/v1/live", {**body, "every_s": 60}, "application/json")
    assert refused.status_code == 422 and "Choose 1, 2, 5 or 10" in refused.json()["detail"]


def test_a_chart_says_what_happened_in_its_time(client, port):
    now = datetime.now(UTC)
    other = Interface.objects.filter(device=port.device).exclude(pk=port.pk).first()
    for entry in (
        {"kind": "speed", "device": port.device, "interface": port, "text": "1 Gb/s, was 100 Mb/s"},
        {"kind": "restart", "device": port.device, "text": "restarted"},
        {"kind": "state", "device": port.device, "interface": other, "text": "another port went down"},
        {"kind": "reach", "device": port.device, "text": "told by an alarm already"},
    ):
        Entry.objects.create(at=now - timedelta(minutes=30), **entry)
    apply([transition(port.device, 4, "91 % full", at=now - timedelta(minutes=20), interface=port, qualifier="one")])
    apply([transition(port.device, 4, "long ago", at=now - timedelta(days=3), interface=port, qualifier="other")])
    marks = get(client, f"interfaces/{port.pk}/series", start=iso(now - timedelta(hours=2)), end=iso(now))["marks"]
    told = {(mark["kind"], mark["severity"], mark["words"]) for mark in marks}
    assert told >= {
        ("speed", None, "1 Gb/s, was 100 Mb/s"),
        ("restart", None, "restarted"),
        ("alarm", 4, "91 % full"),
    }
    words = {mark["words"] for mark in marks}
    assert not words & {"another port went down", "told by an alarm already", "long ago"}
