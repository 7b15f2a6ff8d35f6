"""Rules by the API: exceptions, what conditions and formulas come to, rehearsals, limits that are proposed, what a rule did."""

from datetime import UTC, datetime, timedelta

import orjson
import pytest

from lumtar.core.alarms.severity import Severity
from lumtar.domain.alarms.models import Alarm, Consequence, Rule, RuleException
from lumtar.domain.alarms.services import apply
from lumtar.domain.audit.models import AuditChange
from lumtar.domain.inventory import services
from lumtar.domain.inventory.models import Device, Interface
from tests.alarms import plan_for, transition
from tests.network import PORTS, fill
from tests.server.calls import get, is_problem

pytestmark = pytest.mark.django_db
LEVEL = {"severity": 4, "limit": 90, "clear": 80}
BUSY = {"name": "Busy", "measure": "load", "levels": [LEVEL]}


def send(client, method, path, **values):
    return getattr(client, method)(f"/api/v1/{path}", values, "application/json")


def answered(client, path, **values):
    answer = send(client, "post", path, **values)
    assert answer.status_code == 200, answer.content
    return answer.json()


@pytest.fixture
def network(user):
    return fill(3.0)


@pytest.fixture
def port(network):
    return Interface.objects.get(device=network[0], if_index=1)


class TestExceptions:
    def test_one_is_made_shown_and_ended(self, client, port):
        rule = Rule.objects.get(name="Utilisation")
        path = f"rules/{rule.pk}/exceptions/{port.pk}"
        made = send(client, "put", path, levels=[{**LEVEL, "limit": 99, "clear": 95}], reason="backup line")
        (row,) = made.json()["exceptions"]
        assert (row["label"], row["reason"], row["by"]) == ("hex-wan-1 Transport A", "backup line", "anna")
        assert row["levels"] == [{**LEVEL, "limit": 99, "clear": 95, "low": None, "low_clear": None}]
        exempt = send(client, "put", path, reason="out of use").json()["exceptions"]
        assert [(each["levels"], each["reason"]) for each in exempt] == [([], "out of use")], "it takes the place"
        (listed,) = [each for each in get(client, "rules") if each["id"] == rule.pk]
        assert listed["exceptions"] == exempt
        assert AuditChange.objects.filter(table="alarms_ruleexception").exists()
        assert client.delete(f"/api/v1/{path}").status_code == 204 and not RuleException.objects.exists()
        assert client.delete(f"/api/v1/{path}").status_code in (204, 404)

    def test_what_makes_no_sense_is_refused(self, client, port):
        rule = Rule.objects.get(name="Utilisation")
        path = f"rules/{rule.pk}/exceptions/{port.pk}"
        crossed = [{**LEVEL, "limit": 10, "clear": 95}]
        assert is_problem(send(client, "put", path, levels=crossed), 422, "clearing limit")
        assert is_problem(send(client, "put", f"rules/{rule.pk}/exceptions/987654"), 422, "There is no interface")
        assert is_problem(send(client, "put", f"rules/987654/exceptions/{port.pk}"), 404, "nothing with that number")
        assert not RuleException.objects.exists()


class TestWhatItComesTo:
    def test_a_condition_says_what_it_holds_for(self, client, network):
        found = answered(client, "rules/match", kind="interface", scope='site is "Hexwater"')
        assert found["subjects"] == PORTS and found["examples"][0] == {"device": "hex-wan-1", "label": "Transport A"}
        assert answered(client, "rules/match", kind="device")["subjects"] == 2
        assert answered(client, "rules/match", kind="component", scope="part is fan")["subjects"] == 0
        assert is_problem(send(client, "post", "rules/match", kind="cable"), 422, "no kind of subject cable")
        wrong = send(client, "post", "rules/match", kind="device", scope="colour is red")
        assert is_problem(wrong, 422, "colour")

    def test_a_formula_says_its_unit_and_what_it_gives_now(self, client, port):
        given = answered(client, "rules/formula", measure="= out / (in + out) * 100", subject_id=port.pk)
        assert (given["label"], given["subject"]) == ("hex-wan-1 Transport A", "interface")
        assert given["value"] == pytest.approx(100 * 0.95 / 1.25, rel=0.01)
        assert answered(client, "rules/formula", measure="load", subject_id=port.pk)["value"] == pytest.approx(
            95, abs=1
        )

    @pytest.mark.parametrize(
        ("formula", "words"),
        [
            ("= in / colour", "colour"),
            ("= in + processor", "cannot be added"),
            ("= load + processor", "interface"),
            ("= in +", "end"),
            ("= (((((((((((((((((((((((((in", ""),
            ("nothing", "nothing"),
        ],
    )
    def test_a_formula_that_makes_no_sense_is_refused_in_words(self, client, network, formula, words):
        assert is_problem(send(client, "post", "rules/formula", measure=formula), 422, words)

    def test_dividing_by_nothing_gives_nothing(self, client, port):
        assert answered(client, "rules/formula", measure="= in / (out - out)", subject_id=port.pk)["value"] is None


class TestRehearsal:
    def test_it_says_what_would_have_been_raised_and_who_called(self, client, port):
        plan = plan_for("duty@oskelund.example")
        body = {**BUSY, "times": 3, "of": 3, "days": 1, "plan_id": plan.pk}
        done = answered(client, "rules/rehearsal", **body)
        assert (done["subjects"], done["alarms"], done["active"]) == (2 * PORTS, 1, 1)
        (listed,) = done["listed"]
        assert (listed["subject_id"], listed["label"]) == (port.pk, "hex-wan-1 Transport A")
        assert listed["cleared_at"] is None and listed["value"] == pytest.approx(95, abs=1)
        assert done["messages"] == {"duty@oskelund.example": 1} and done["by_severity"] == {"4": 1}
        assert Rule.objects.filter(name="Busy").count() == 0, "nothing is kept"
        narrowed = answered(client, "rules/rehearsal", **body | {"scope": 'site is "Saltby"'})
        assert (narrowed["subjects"], narrowed["alarms"], narrowed["messages"]) == (PORTS, 0, {plan.name[8:]: 0})

    def test_exceptions_of_the_rule_that_it_is_to_become_hold(self, client, port):
        rule = Rule.objects.create(name="Busy", measure="load", levels=[LEVEL], times=3, of=3)
        body = {**BUSY, "times": 3, "of": 3, "days": 1, "rule_id": rule.pk}
        one = {**BUSY, "days": 1, "subject_id": port.pk, "rule_id": rule.pk}
        path = f"rules/{rule.pk}/exceptions/{port.pk}"
        for levels, alarms in (([], 0), ([{**LEVEL, "limit": 99, "clear": 95}], 0), ([{**LEVEL, "limit": 85}], 1)):
            assert send(client, "put", path, levels=levels).status_code == 200
            assert answered(client, "rules/rehearsal", **body)["alarms"] == alarms
            assert len(answered(client, "rules/rehearsal/line", **one)["alarms"]) == alarms
        # Another measure ends them when it is saved.
        moved = {**body, "measure": "peak"}
        assert send(client, "put", path, levels=[]).status_code == 200
        assert answered(client, "rules/rehearsal", **moved)["alarms"] >= 1

    def test_step_by_step_it_says_how_far_it_is(self, client, network):
        body = {**BUSY, "times": 3, "of": 3, "days": 1}
        answer = send(client, "post", "rules/rehearsal/steps", **body)
        *steps, last = [orjson.loads(line) for line in b"".join(answer.streaming_content).splitlines()]
        assert steps == [{"done": 2 * PORTS, "subjects": 2 * PORTS}]
        whole = answered(client, "rules/rehearsal", **body)
        assert last["rehearsal"]["alarms"] == whole["alarms"] == 1
        assert is_problem(send(client, "post", "rules/rehearsal/steps", **{**body, "measure": "beauty"}), 422, "beauty")

    def test_the_line_of_one_subject(self, client, port):
        line = answered(client, "rules/rehearsal/line", **BUSY, days=1, subject_id=port.pk)
        assert (line["label"], line["unit"], line["band"]) == ("hex-wan-1 Transport A", "%", None)
        known = [value for value in line["value"] if value is not None]
        assert len(line["at"]) == len(line["value"]) and max(known) == pytest.approx(95, abs=1)
        assert [each["severity"] for each in line["alarms"]] == [4]
        outside = send(client, "post", "rules/rehearsal/line", **BUSY, scope='site is "Saltby"', subject_id=port.pk)
        assert is_problem(outside, 422, "not among what the rule applies to")

    @pytest.mark.parametrize(
        ("wrong", "words"),
        [
            ({"measure": "colour"}, "colour"),
            ({"levels": []}, "level"),
            ({"levels": [{**LEVEL, "clear": 95}]}, "clearing limit"),
            ({"scope": "colour is red"}, "colour"),
            ({"statistic": "mean", "window_s": 0}, "window"),
        ],
    )
    def test_a_rule_that_makes_no_sense_is_refused(self, client, network, wrong, words):
        assert is_problem(send(client, "post", "rules/rehearsal", **{**BUSY, "days": 1, **wrong}), 422, words)

    def test_limits_are_proposed_only_for_what_is_compared(self, client, network):
        asked = {**BUSY, "days": 7, "a_week": [1]}
        assert is_problem(send(client, "post", "rules/tolerance", **asked), 422, "compares with what is normal")
        known = answered(client, "rules/tolerance", **asked, reference="learned")
        assert known == {"limits": [None]}, "three hours are no history"


class TestReport:
    def test_it_says_what_the_rule_did(self, client, network):
        rule = Rule.objects.get(name="Reachability")
        device, start = network[0], datetime.now(UTC) - timedelta(days=1)
        for number in range(3):
            at = start + timedelta(hours=number)
            apply([transition(device, Severity.CRITICAL, "silent", at=at, rule=rule)])
            apply([transition(device, Severity.CLEARED, "back", at=at + timedelta(minutes=4), rule=rule)])
        report = get(client, f"rules/{rule.pk}/report")
        assert (report["alarms"], report["of_use"], report["messages"], report["median_s"]) == (4, 0, 0, 240.0)
        assert report["noisiest"][0]["label"] == "hex-wan-1" and report["noisiest"][0]["alarms"] == 3
        assert get(client, f"rules/{rule.pk}/report", days=0.01)["alarms"] == 0
        for days in (0, -1, 401):
            assert is_problem(client.get(f"/api/v1/rules/{rule.pk}/report?days={days}"), 422, "at most 400 days")
        assert is_problem(client.get("/api/v1/rules/987654/report"), 404, "nothing with that number")


class TestConsequences:
    @pytest.fixture
    def below(self, network):
        """What hangs on hex-wan-1, which does not answer, and does not answer either."""
        core = network[0]
        below = services.add_device("10.9.0.5", name="hex-acc-5", kind="v2c", secret={"community": "word"})
        services.change_device(below.pk, below.edition, "anna", hangs_on=["hex-wan-1"])
        rule, plan = Rule.objects.get(name="Reachability"), plan_for("duty@oskelund.example")
        for device in (core, below):
            apply([transition(device, Severity.CRITICAL, "Does not answer", rule=rule, plan=plan)])
        return Alarm.objects.get(device=core, type="unreachable"), Alarm.objects.get(device=below)

    def test_they_are_listed_under_their_cause_and_overruled(self, client, below):
        cause, under = below

        def consequences():
            return {row["id"]: row for row in get(client, "alarms", cause=cause.pk)["rows"]}

        listed = consequences()
        assert listed[under.pk]["cause_id"] == cause.pk and "hex-wan-1" in listed[under.pk]["cause_reason"]
        active = {row["id"]: row for row in get(client, "alarms")["rows"]}
        assert not set(active) & set(listed) and active[cause.pk]["consequences"] == len(listed)
        path = f"alarms/{under.pk}/overrule"
        assert send(client, "post", path).status_code == 204
        assert under.pk in {row["id"] for row in get(client, "alarms")["rows"]}
        assert set(consequences()) == set(listed) - {under.pk}
        said = get(client, f"alarms/{under.pk}")["actions"]
        assert [(each["kind"], each["by"], each["text"]) for each in said] == [
            ("comment", "anna", "It does not follow from its cause")
        ]
        assert is_problem(send(client, "post", path), 409, "stands by itself already")
        assert Consequence.objects.get(alarm=under).ended_at is not None

    def test_the_history_is_searched_by_words(self, client, below):
        def found(words):
            return {row["label"] for row in get(client, "alarms", active="false", words=words)["rows"]}

        assert found("hex-acc") == {"hex-acc-5"} and found("does not answer") >= {"hex-acc-5", "hex-wan-1"}
        assert found("hex-wan unreachable") == {"hex-wan-1"} and found("%") == found("no such word") == set()
        assert Device.objects.count() == 3
