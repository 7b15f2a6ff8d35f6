"""Alarms, mails, devices, secrets, tokens, queries."""

from dataclasses import replace
from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.db import IntegrityError, transaction

from lumtar.core.alarms.facts import Ended
from lumtar.core.alarms.severity import Severity
from lumtar.core.discovery import ComponentDescribed, Described, PortDescribed
from lumtar.domain.accounts import services as accounts
from lumtar.domain.alarms import queries
from lumtar.domain.alarms.models import Alarm, AlarmChange, Notification, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory import credentials, description
from lumtar.domain.inventory import services as inventory
from lumtar.domain.inventory.description import SpeedChange
from lumtar.domain.inventory.models import Credential, Device, Interface, InterfaceSpeed
from lumtar.domain.inventory.scope import Scope
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation import secrets
from lumtar.domain.reports import devices
from lumtar.domain.reports.ports import find as find_ports
from lumtar.wire import usm
from lumtar.wire.session import Community
from tests.alarms import plan_for, transition
from tests.domain.conftest import NOW

pytestmark = pytest.mark.django_db


@pytest.fixture
def rule():
    return Rule.objects.get(name="Utilisation")


@pytest.fixture
def raised(device, ports, rule):
    plan = plan_for("duty@oskelund.example")
    return transition(device, Severity.MAJOR, "94 % full", at=NOW, interface=ports[0], rule=rule, plan=plan)


def cleared(told, minutes=10):
    over = told.at + timedelta(minutes=minutes)
    return replace(told, severity=Severity.CLEARED, facts=Ended("Back to 60 %"), at=over)


class TestAlarms:
    def test_raised_then_cleared_leaves_a_history(self, raised):
        assert apply([raised]) == apply([cleared(raised)])
        alarm = Alarm.objects.get()
        assert alarm.is_cleared and alarm.raised_at == NOW
        assert [change.severity for change in alarm.changes.order_by("at")] == [4, 0]

    def test_what_changes_nothing_leaves_no_trace(self, raised):
        assert apply([cleared(raised)]) == []
        apply([raised])
        assert apply([raised, raised]) == []
        assert AlarmChange.objects.count() == Notification.objects.count() == 1

    def test_one_alarm_a_resource_and_type(self, raised):
        apply([raised, cleared(raised), replace(raised, at=NOW + timedelta(hours=1))])
        assert Alarm.objects.count() == 1
        assert Alarm.objects.get().raised_at == NOW + timedelta(hours=1)
        with pytest.raises(IntegrityError), transaction.atomic():
            Alarm.objects.create(
                resource_kind=raised.kind,
                resource_id=raised.resource,
                type=raised.type,
                qualifier=raised.qualifier,
                severity=3,
                raised_at=NOW,
                changed_at=NOW,
            )

    def test_the_past_is_as_it_was(self, raised):
        apply([raised, cleared(raised, 10), replace(raised, at=NOW + timedelta(minutes=30))])
        standing = [queries.active(NOW + timedelta(minutes=at))[1] for at in (-1, 0, 9, 11, 29, 31)]
        assert standing == [0, 1, 1, 0, 0, 1]
        assert queries.active(NOW + timedelta(minutes=40))[0][0].raised_at == NOW + timedelta(minutes=30)
        assert queries.active(NOW + timedelta(minutes=5))[0][0].raised_at == NOW

    def test_history_and_timeline(self, raised):
        apply([raised, cleared(raised, 10)])
        rows = queries.history(NOW - timedelta(hours=1), NOW + timedelta(hours=1), 10, 0)
        assert [(row.severity, row.label) for row in rows] == [(0, "hex-wan-1 Transport 1")]
        buckets = queries.timeline(NOW - timedelta(minutes=30), NOW + timedelta(minutes=30), 6)
        assert [bucket.count for bucket in buckets] == [0, 0, 0, 1, 0, 0]


SAID = Described("hex-wan-1", "a router", "1.3.6.1.4.1.32473.1.21", "Hexwater", "somebody")


def described(index, name="wan1", alias="", descr=""):
    return PortDescribed(index, name, descr, alias, 6, "")


class TestInventory:
    @pytest.mark.parametrize(
        ("changes", "words"),
        [
            ({"address": ""}, "There is no address"),
            ({"address": "two words"}, "without blanks"),
            ({"address": "x" * 300}, "without blanks"),
            ({"port": 0}, "between 1 and 65535"),
            ({"port": 70000}, "between 1 and 65535"),
            ({"interval_s": 1}, "between 10 seconds"),
            ({"secret": {}}, "needs a community"),
            ({"kind": "v3", "secret": {}}, "needs a user name"),
            (
                {"kind": "v3", "secret": {"user": "a", "auth": "sha1", "auth_password": "short"}},
                "at least 8 characters",
            ),
            (
                {"kind": "v3", "secret": {"user": "a", "priv": "aes128", "priv_password": "long-enough"}},
                "without authentication",
            ),
            (
                {"kind": "v3", "secret": {"user": "a", "auth": "rot13", "auth_password": "long-enough"}},
                "not known here",
            ),
        ],
    )
    def test_what_cannot_be_added_is_said(self, changes, words):
        wanted = {"address": "127.0.0.1", "port": 161, "kind": "v2c", "secret": {"community": "word"}, **changes}
        with pytest.raises(ValueError, match=words):
            inventory.add_device(wanted.pop("address"), **wanted)
        assert not Device.objects.exists()

    def test_the_same_agent_twice(self, device):
        with pytest.raises(ValueError, match="There is a device at"):
            inventory.add_device("127.0.0.9", port=1161, kind="v2c", secret={"community": "word"})

    def test_the_same_secret_is_one_credential(self, device):
        other = inventory.add_device("::1", kind="v2c", secret={"community": "word"})
        third = inventory.add_device("127.0.0.2", kind="v2c", secret={"community": "another"})
        assert other.credential_id == device.credential_id != third.credential_id
        assert third.credential.name == "SNMP v2c 2"

    def test_secrets_are_stored_sealed(self, device):
        sealed = Credential.objects.get().sealed
        assert "word" not in sealed
        assert credentials.opened(device.credential) == Community("word")

    def test_version_3_comes_back_as_it_went_in(self):
        secret = {
            "user": "anna",
            "auth": "sha256",
            "auth_password": "authenticate",
            "priv": "aes128",
            "priv_password": "keep-private",
        }
        made = inventory.add_device("127.0.0.3", kind="v3", secret=secret)
        assert credentials.opened(made.credential) == usm.User(
            "anna", usm.AuthProtocol.SHA256, "authenticate", usm.PrivProtocol.AES128, "keep-private"
        )

    def test_a_device_without_a_name_takes_its_own(self):
        made = inventory.add_device("127.0.0.4", kind="v2c", secret={"community": "word"})
        description.describe(made, SAID, [described(1)], [], NOW)
        made.refresh_from_db()
        assert (made.name, made.sys_object_id) == ("hex-wan-1", "1.3.6.1.4.1.32473.1.21")

    def test_ports_come_go_and_change_their_names(self, device, ports):
        first, _ = description.describe(
            device, SAID, [described(1, alias="Transport A"), described(2, "wan2"), described(9, "new")], [], NOW
        )
        assert set(first) == {1, 2, 9}
        assert first[1].pk == ports[0].pk and first[1].label == "Transport A"
        ports[2].refresh_from_db()
        assert ports[2].gone_at == NOW
        texts = {entry.text for entry in Entry.objects.filter(kind="inventory")}
        assert texts == {
            "port Transport 1 is now called Transport A",
            "port Transport 2 is now called wan2",
            "port Transport 3 is gone",
            "1 new port",
        }
        again, _ = description.describe(
            device,
            SAID,
            [described(1, alias="Transport A"), described(2, "wan2"), described(3, "wan3"), described(9, "new")],
            [],
            NOW,
        )
        assert again[3].pk == ports[2].pk and again[3].gone_at is None

    def test_describing_twice_writes_nothing_new(self, device):
        said = [described(1, alias="Transport A"), described(2)]
        description.describe(device, SAID, said, [], NOW)
        before = (Interface.objects.count(), Entry.objects.count())
        description.describe(device, SAID, said, [], NOW)
        assert (Interface.objects.count(), Entry.objects.count()) == before

    def test_components(self, device):
        parts = [
            ComponentDescribed("processor", "1", "Processor 1", "%", 1.0),
            ComponentDescribed("sensor", "4", "Inlet", "°C", 0.1),
        ]
        _, found = description.describe(device, SAID, [], parts, NOW)
        _, again = description.describe(device, SAID, [], parts[1:], NOW)
        assert set(found) == {("processor", "1"), ("sensor", "4")}
        assert again["sensor", "4"].pk == found["sensor", "4"].pk and ("processor", "1") not in again

    def test_speeds_are_a_history(self, ports):
        description.note_speeds([SpeedChange(ports[0].pk, NOW, 10**9, True, 0, 0)])
        description.note_speeds([SpeedChange(ports[0].pk, NOW + timedelta(hours=1), 10**9, True, 300_000_000, 0)])
        first, second = InterfaceSpeed.objects.order_by("since")
        assert (first.in_bps, first.in_source) == (10**9, "ifHighSpeed")
        assert (second.in_bps, second.in_source, second.out_bps) == (300_000_000, "override", 10**9)


class TestQueries:
    def test_words_and_sites_narrow_the_list(self, device, ports):
        other = inventory.add_device(
            "127.0.0.5", name="sal-acc-1", site="Saltby", kind="v2c", secret={"community": "word"}
        )
        Interface.objects.create(device=other, if_index=1, name="g1", label="Front desk 100%_off")
        assert find_ports()[1] == 4
        assert [row.label for row in find_ports(scope=Scope(words="front desk"))[0]] == ["Front desk 100%_off"]
        assert find_ports(scope=Scope(words="100%_o"))[1] == 1 and find_ports(scope=Scope(words="%"))[1] == 1
        assert find_ports(scope=Scope(site="Hexwater"))[1] == 3
        assert find_ports(scope=Scope(device=other.pk))[1] == 1
        assert [row.name for row in devices.find(words="127.0.0.5")[0]] == ["sal-acc-1"]
        assert devices.site_counts() == [("Hexwater", 1, 3), ("Saltby", 1, 1)]

    def test_pages(self, device, ports):
        first, total = find_ports(sort="label", limit=2)
        second, _ = find_ports(sort="label", limit=2, offset=2)
        assert total == 3 and [row.label for row in [*first, *second]] == ["Transport 1", "Transport 2", "Transport 3"]


class TestSecretsAndTokens:
    def test_a_changed_key_is_said_and_an_old_one_still_reads(self, monkeypatch):
        secrets._box.cache_clear()
        monkeypatch.setenv("LUMTAR_KEY", "old")
        sealed = secrets.seal("word")
        secrets._box.cache_clear()
        monkeypatch.setenv("LUMTAR_KEY", "new")
        with pytest.raises(secrets.SecretUnreadable, match="another key"):
            secrets.unseal(sealed)
        secrets._box.cache_clear()
        monkeypatch.setenv("LUMTAR_KEY", "new, old")
        assert secrets.unseal(sealed) == "word"
        secrets._box.cache_clear()

    def test_without_a_key_it_says_what_to_set(self, monkeypatch):
        monkeypatch.delenv("LUMTAR_KEY", raising=False)
        monkeypatch.delenv("LUMTAR_KEY_FILE", raising=False)
        with pytest.raises(RuntimeError, match="LUMTAR_KEY_FILE"):
            secrets.keys()

    def test_tokens_open_and_close_with_their_user(self):
        user = User.objects.create_user("anna", email="anna@oskelund.example", is_staff=True)
        token = accounts.new_token(user)
        known = accounts.user_of_token(token)
        assert known == user
        assert (known.username, known.is_active, known.is_staff, known.is_superuser) == ("anna", True, True, False)
        assert known.email == "anna@oskelund.example", "what was not asked for at once is fetched"
        assert accounts.user_of_token(token + "x") is None
        user.is_active = False
        user.save()
        assert accounts.user_of_token(token) is None

    def test_the_first_user_is_made_once(self):
        assert accounts.needs_first_user()
        for name, password, words in (
            ("", "long-enough-word", "blank"),
            ("anna", "short", "too short"),
            ("anna", "password1234", "too common"),
        ):
            with pytest.raises(ValueError, match=words):
                accounts.create_first_user(name, password)
        assert accounts.create_first_user("anna", "a-good-long-word").is_superuser
        with pytest.raises(ValueError, match="already"):
            accounts.create_first_user("bert", "a-good-long-word")
