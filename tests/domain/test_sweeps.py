"""Sweeps in the database: what may be kept, what was found, and what is done with it."""

from datetime import timedelta

import pytest
from django.utils import timezone

from lumtar.domain.inventory import services as inventory
from lumtar.domain.inventory.models import Device, DeviceState, Profile
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.editing import Stale
from lumtar.domain.sweeps import admission, results, services
from lumtar.domain.sweeps.admission import AdmissionRuleSpec
from lumtar.domain.sweeps.models import AdmissionRule, Finding, Run, Sweep
from lumtar.domain.sweeps.results import Book, Found
from lumtar.domain.sweeps.services import SweepSpec

pytestmark = pytest.mark.django_db
SAID = {
    "sys_name": "alw-acc-1",
    "sys_descr": "an access switch",
    "sys_object_id": "1.3.6.1.4.1.32473.1.12",
    "serial": "AB12CD34",
    "maker": "Fernhall",
    "base_mac": "02:00:00:00:00:01",
}


@pytest.fixture
def device():
    return inventory.add_device("10.20.0.2", name="known-1", kind="v2c", secret={"community": "word"})


@pytest.fixture
def sweep(device):
    return services.save(SweepSpec("Depot", "10.20.0.0/24", site="Depot"), "anna")


def book(sweep):
    run = Run.objects.create(sweep=sweep)
    assert results.begin(run.pk, 254)
    return Book(run)


def end(found, whole=True):
    counts = found.close(whole)
    results.end(found.run, Run.State.DONE if whole else Run.State.STOPPED, counts)
    return counts


def snmp(address, device, **said):
    return Found(address, ("snmp",), device.credential_id, said={**SAID, **said}, ports=26)


class TestKeeping:
    @pytest.mark.parametrize(
        ("more", "said"),
        [
            ({"name": " "}, "1 to 80 characters"),
            ({"ranges": "10.0.0.0/8"}, "16,777,214 addresses"),
            ({"ranges": "x"}, "is not a range"),
            ({"tcp_ports": [0]}, "A port must be between"),
            ({"tcp_ports": list(range(1, 20))}, "At most ten"),
            ({"per_second": 0}, "The rate must be"),
            ({"timeout_s": 99}, "An answer is waited for"),
            ({"tries": 0}, "An answer is waited for"),
            ({"every_s": 5}, "every 5 minutes to every 90 days"),
            ({"retire_after_days": 0}, "The lost are retired"),
            ({"credentials": [999]}, "There is no credential 999"),
            ({"icmp": False, "snmp": False}, "choose ICMP, a TCP port or SNMP"),
            ({"ranges": "10.20.0.0/16", "every_s": 300}, "A run can take"),
        ],
    )
    def test_a_wrong_sweep_is_refused(self, device, more, said):
        with pytest.raises(ValueError, match=said):
            services.save(SweepSpec(**{"name": "x", "ranges": "10.20.0.0/24", **more}), "anna")
        assert not Sweep.objects.exists()

    def test_without_credentials_there_is_nothing_to_ask(self):
        with pytest.raises(ValueError, match="there is no credential to try"):
            services.save(SweepSpec("x", "10.0.0.1", icmp=False), "anna")

    def test_the_estimate_says_what_is_shared_with_others(self, sweep):
        found = services.estimate(SweepSpec("Other", "10.20.0.128/25", tries=1, per_second=10))
        assert (found.addresses, found.packets, found.longest_s) == (126, 2, 27.0)
        assert found.remarks == ["126 of them are swept by Depot too; nothing is added twice."]
        assert services.estimate(SweepSpec("Depot", "10.20.0.0/24"), sweep.pk).remarks == []

    def test_the_second_editor_is_told(self, sweep):
        services.save(SweepSpec("Depot", "10.20.0.0/24"), "bert", sweep.pk, 1)
        with pytest.raises(Stale, match="bert changed this meanwhile"):
            services.save(SweepSpec("Depot 2", "10.20.0.0/24"), "anna", sweep.pk, 1)

    def test_it_runs_once_at_a_time_and_can_be_stopped(self, sweep):
        run = services.start(sweep.pk, "anna")
        with pytest.raises(ValueError, match="runs already"):
            services.start(sweep.pk, "bert")
        with pytest.raises(ValueError, match="stop it first"):
            services.delete(sweep.pk, "anna")
        services.stop(sweep.pk)
        assert not results.begin(run.pk, 1)
        run.refresh_from_db()
        assert run.state == "stopped"
        with pytest.raises(ValueError, match="does not run just now"):
            services.stop(sweep.pk)
        services.delete(sweep.pk, "anna")
        assert Device.objects.exists()

    def test_what_is_due_is_started_and_what_was_left_is_given_up(self, sweep):
        now = timezone.now()
        services.save(SweepSpec("Depot", "10.20.0.0/24", every_s=3600), "anna", sweep.pk, 1)
        assert services.start_due(now) == []
        assert services.start_due(now + timedelta(hours=2)) == ["Depot"]
        Run.objects.update(state="running", beat_at=now)
        assert services.start_due(now + timedelta(hours=2, minutes=2)) == []
        run = Run.objects.get()
        assert run.state == "failed" and "the worker stopped in the middle" in run.words


class TestFinding:
    def test_one_box_under_three_addresses_is_found_once(self, sweep, device):
        found = book(sweep)
        first = found.take(snmp("10.20.0.10", device))
        found.take(snmp("10.20.0.11", device))
        found.take(snmp("10.20.0.12", device, serial=""))
        other = found.take(snmp("10.20.0.13", device, serial="XY98"))
        counts = end(found)
        first.refresh_from_db()
        assert first.reasons == {
            "10.20.0.10": "found first",
            "10.20.0.11": "the same serial number, AB12CD34",
            "10.20.0.12": "the same base MAC address, 02:00:00:00:00:01",
        }
        assert other.pk != first.pk and Finding.objects.count() == 2
        assert (counts["new"], counts["hold"]) == (2, 2)
        assert first.words == "no rule holds for it: decide yourself"

    def test_a_device_of_the_inventory_is_known_with_the_reason(self, sweep, device):
        Device.objects.update(serial="AB12CD34", maker="Fernhall")
        found = book(sweep)
        by_serial = found.take(snmp("10.20.0.77", device))
        assert (by_serial.state, by_serial.device) == ("known", device)
        assert by_serial.words == "is the device known-1: the same serial number, AB12CD34"
        assert end(found)["known"] == 1

    def test_what_changed_is_said(self, sweep, device):
        found = book(sweep)
        found.take(snmp("10.20.0.10", device))
        end(found)
        found = book(sweep)
        again = found.take(snmp("10.20.0.10", device, sys_name="alw-acc-9"))
        assert (again.state, again.words) == ("changed", "sysName is alw-acc-9 now, was alw-acc-1")
        moved = book_after(found, sweep).take(snmp("10.20.0.20", device, sys_name="alw-acc-9"))
        assert (moved.pk, moved.words) == (again.pk, "answers at 10.20.0.20 too")

    def test_what_no_longer_answers_is_lost_since_the_first_run_that_missed_it(self, sweep, device):
        found = book(sweep)
        found.take(snmp("10.20.0.10", device))
        end(found)
        assert end(book(sweep), whole=False)["lost"] == 0
        assert end(book(sweep))["lost"] == 1
        since = Finding.objects.get().lost_since
        end(book(sweep))
        assert Finding.objects.get().lost_since == since
        found = book(sweep)
        assert found.take(snmp("10.20.0.10", device)).lost_since is None
        assert end(found)["known"] == 1

    def test_another_box_that_takes_over_an_address_is_a_new_one(self, sweep, device):
        found = book(sweep)
        found.take(snmp("10.20.0.10", device))
        end(found)
        found = book(sweep)
        assert found.take(snmp("10.20.0.10", device, serial="XY98ZW76")).state == "new"
        assert Finding.objects.count() == 1

    def test_what_was_lost_for_long_is_retired_and_never_silently(self, sweep, device):
        services.save(SweepSpec("Depot", "10.20.0.0/24", retire_after_days=7), "anna", sweep.pk, 1)
        sweep.refresh_from_db()
        found = book(sweep)
        found.take(Found("10.20.0.2", ("icmp",)))
        end(found)
        end(book(sweep))
        Finding.objects.update(lost_since=timezone.now() - timedelta(days=8))
        DeviceState.objects.update(reach="answers")
        assert end(book(sweep))["retired"] == 0
        DeviceState.objects.update(reach="silent")
        assert end(book(sweep))["retired"] == 1
        device.refresh_from_db()
        assert device.retired_at
        assert Entry.objects.filter(device=device, by="sweep Depot", text__contains="retired").exists()
        assert Finding.objects.get().words == "retired: lost for 7 days"


def book_after(found, sweep):
    end(found)
    return book(sweep)


class TestAdmission:
    def test_the_first_rule_that_holds_decides(self, sweep, device):
        profile = Profile.objects.create(name="County switch", tables=["interfaces"])
        given = {"site": "Alderwick", "groups": ["new"], "tags": {"by": "sweep"}, "profile": profile.pk}
        admission.save(AdmissionRuleSpec("No printers", 'sys_descr like "*printer*"', "ignore"), "anna")
        admission.save(AdmissionRuleSpec("Switches", "answered has snmp", "add", interval_s=300, **given), "anna")
        found = book(sweep)
        added = found.take(snmp("10.20.0.10", device))
        ignored = found.take(snmp("10.20.0.11", device, serial="P1P2P3", sys_descr="a Printer", base_mac=""))
        held = found.take(Found("10.20.0.12", ("icmp",)))
        assert (added.decision, added.decided_by, added.words) == ("add", "the rule “Switches”", "added as alw-acc-1")
        made = Device.objects.get(name="alw-acc-1")
        assert (made.site.name, made.interval_s, made.profile, made.tags) == (
            "Alderwick",
            300,
            profile,
            {"by": "sweep"},
        )
        assert [group.name for group in made.groups.all()] == ["new"]
        assert (ignored.decision, held.decision, held.decided_by) == ("ignore", "hold", "no rule")
        found.take(snmp("10.20.0.15", device))
        counts = end(found)
        assert (counts["add"], counts["ignore"], counts["hold"], counts["new"]) == (1, 1, 1, 3)
        assert Device.objects.count() == 2
        again = book(sweep)
        assert again.take(snmp("10.20.0.10", device)).state == "known"
        assert end(again)["add"] == 0 and Device.objects.count() == 2

    def test_what_cannot_be_added_is_held_with_the_reason(self, sweep, device):
        Device.objects.update(serial="ZZ99YY88", maker="Fernhall")
        admission.save(AdmissionRuleSpec("All", "", "add"), "anna")
        found = book(sweep).take(snmp("10.20.0.2", device))
        assert found.decision == "hold" and "There is a device at 10.20.0.2 port 161 already: known-1" in found.words

    def test_a_person_decides_and_rules_leave_that_alone(self, sweep, device):
        found = book(sweep)
        first = found.take(snmp("10.20.0.10", device))
        second = found.take(Found("10.20.0.12", ("tcp",), tcp_port=22))
        end(found)
        admission.decide_oneself(first.pk, "ignore", "anna")
        admission.save(AdmissionRuleSpec("All", "", "add"), "anna")
        assert book(sweep).take(snmp("10.20.0.10", device)).decision == "ignore"
        added = admission.decide_oneself(second.pk, "add", "anna", site="Saltby")
        assert (added.device.way, added.device.port, added.device.site.name) == ("tcp", 22, "Saltby")
        with pytest.raises(ValueError, match="It is a device already"):
            admission.decide_oneself(second.pk, "ignore", "anna")
        with pytest.raises(ValueError, match="one of: add, hold, ignore"):
            admission.decide_oneself(first.pk, "burn", "anna")

    def test_a_dry_run_changes_nothing(self, sweep, device):
        found = book(sweep)
        found.take(snmp("10.20.0.10", device))
        end(found)
        assert [(would.outcome, would.rule) for would in admission.dry_run()] == [("hold", "no rule")]
        told = AdmissionRuleSpec("Switches", 'sys_descr like "*switch*" and address in 10.20.0.0/16', "add")
        assert [(would.outcome, would.rule) for would in admission.dry_run(told)] == [("add", "Switches")]
        kept = admission.save(told, "anna")
        changed = AdmissionRuleSpec("Switches", 'sys_descr like "*router*"', "ignore")
        assert [would.outcome for would in admission.dry_run(changed, kept.pk)] == ["hold"]
        assert Device.objects.count() == 1

    @pytest.mark.parametrize(
        ("told", "said"),
        [
            (AdmissionRuleSpec(""), "1 to 80 characters"),
            (AdmissionRuleSpec("x", outcome="burn"), "is one of: add, hold, ignore"),
            (AdmissionRuleSpec("x", "speed > 1"), "is no field"),
            (AdmissionRuleSpec("x", interval_s=1), "The interval must be"),
            (AdmissionRuleSpec("x", profile=999), "no such profile"),
            (AdmissionRuleSpec("x", groups=["g" * 81]), "at most 80"),
        ],
    )
    def test_a_wrong_rule_is_refused(self, told, said):
        with pytest.raises(ValueError, match=said):
            admission.save(told, "anna")

    def test_rules_are_ordered_and_deleted(self):
        first, second = (admission.save(AdmissionRuleSpec(name), "anna") for name in "AB")
        admission.reorder([second.pk, first.pk], "anna")
        admission.delete(first.pk, "anna")
        assert [rule.name for rule in AdmissionRule.objects.all()] == ["B"]
