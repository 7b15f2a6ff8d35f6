"""Credentials in the database: sealed, ordered by site, changed in one place."""

import pytest

from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Credential, Site
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.domain.operation.editing import Stale
from lumtar.wire import pdu, usm
from lumtar.wire.session import Community

pytestmark = pytest.mark.django_db

USER = {
    "user": "anna",
    "auth": "sha256",
    "auth_password": "authenticate",
    "priv": "aes256",
    "priv_password": "keep-private",
}


def community(name, word="a-word", sites=()):
    return credentials.create(name, "v2c", {"community": word}, sites, by="anna")


def test_every_version_comes_back_as_it_went_in():
    first = credentials.create("old", "v1", {"community": " word "})
    third = credentials.create("new", "v3", USER)
    assert credentials.opened(first) == Community(" word ", pdu.VERSION_1)
    assert credentials.opened(third) == usm.User(
        "anna", usm.AuthProtocol.SHA256, "authenticate", usm.PrivProtocol.AES256, "keep-private"
    )
    assert "word" not in first.sealed and "keep-private" not in third.sealed


@pytest.mark.parametrize(
    ("kind", "secret", "words"),
    [
        ("v4", {"community": "x"}, "The kind is v1, v2c or v3"),
        ("v2c", {}, "needs a community"),
        ("v2c", {"community": "x", "user": "y"}, "has no user"),
        ("v1", {"community": "x" * 256}, "at most 255"),
        ("v3", {"user": ""}, "needs a user name"),
        ("v3", {**USER, "auth_password": "short"}, "at least 8 characters"),
        ("v3", {**USER, "auth": ""}, "password for authentication, but no protocol"),
        ("v3", {"user": "a", "priv": "aes128", "priv_password": "long-enough"}, "without authentication"),
        ("v3", {**USER, "auth": "rot13"}, "'rot13' is not known here; there are md5"),
        ("v3", {**USER, "priv": "3DES"}, "never made a standard"),
    ],
)
def test_what_makes_no_sense_is_said(kind, secret, words):
    with pytest.raises(ValueError, match=words):
        credentials.create("new", kind, secret)
    assert not Credential.objects.exists()


def test_names_are_unique_and_not_empty():
    community("Branches")
    with pytest.raises(ValueError, match="called Branches already"):
        community("Branches")
    with pytest.raises(ValueError, match="1 to 80"):
        community("  ")


def test_rotation_changes_one_place_for_all_who_use_it():
    made = community("Branches")
    devices = [add_device(f"127.0.0.{n}", credential=made) for n in (1, 2)]
    changed = credentials.change(
        made.pk, made.edition, name="Branches", kind="v2c", secret={"community": "another"}, sites=(), by="bert"
    )
    for device in devices:
        device.refresh_from_db()
        assert credentials.opened(device.credential) == Community("another")
    assert (changed.changed_by, changed.edition) == ("bert", made.edition + 1)
    entry = Entry.objects.filter(kind="user").last()
    assert entry.by == "bert" and entry.text == "credential Branches changed; its secret was replaced"
    assert "another" not in entry.text


def test_of_the_secret_only_what_is_given_is_replaced():
    made = credentials.create("new", "v3", USER)
    told = {"user": "", "auth": "sha512", "auth_password": "", "priv": "aes256", "priv_password": ""}
    changed = credentials.change(made.pk, 1, name="new", kind="v3", secret=told, sites=())
    assert credentials.revealed(changed) == {**USER, "auth": "sha512"}
    bare = credentials.change(made.pk, 2, name="new", kind="v3", secret={"auth": "sha512", "priv": ""}, sites=())
    assert credentials.revealed(bare) == {**USER, "auth": "sha512", "priv": "", "priv_password": ""}
    renamed = credentials.change(made.pk, 3, name="newer", kind="v3", secret={}, sites=())
    assert renamed.name == "newer" and credentials.revealed(renamed)["auth_password"] == "authenticate"


def test_the_second_of_two_editors_is_told_and_nothing_is_overwritten():
    made = community("Branches")
    credentials.change(made.pk, 1, name="First", kind="v2c", secret={}, sites=(), by="anna")
    with pytest.raises(Stale, match=r"anna changed this meanwhile\. Nothing of yours is saved yet"):
        credentials.change(made.pk, 1, name="Second", kind="v2c", secret={}, sites=(), by="bert")
    assert Credential.objects.get().name == "First"


def test_what_is_in_use_is_not_deleted():
    made = community("Branches")
    device = add_device("127.0.0.1", name="sal-wan-1", credential=made)
    with pytest.raises(ValueError, match="used by sal-wan-1; give them another"):
        credentials.remove(made.pk)
    device.delete()
    credentials.remove(made.pk, by="anna")
    assert not Credential.objects.exists()


def test_the_order_of_trying_is_the_sites_own_first():
    for name in ("Saltby", "Depot"):
        Site.objects.create(name=name)
    everywhere, saltby, last = community("everywhere"), community("saltby", sites=["Saltby"]), community("last")
    assert credentials.in_order("Saltby") == [saltby, everywhere, last]
    assert credentials.in_order("Depot") == credentials.in_order() == [everywhere, last]
    credentials.reorder([last.pk, everywhere.pk], by="anna")
    assert credentials.in_order("Saltby") == [saltby, last, everywhere]
    with pytest.raises(ValueError, match="no credential 99999"):
        credentials.reorder([99999])
    with pytest.raises(ValueError, match="no site 'Nowhere'"):
        community("lost", sites=["Nowhere"])


def test_advice_never_gives_the_secret_away(monkeypatch):
    made = community("Branches", "public")
    assert "well-known default" in credentials.advice(made)[0]
    secret = credentials.create("new", "v3", {**USER, "priv_password": "ends-in-blank "})
    assert not any("ends-in-blank" in each for each in credentials.advice(secret))
    secret.sealed = "not-a-token"
    assert "encrypted with another key" in credentials.advice(secret)[0]
