"""Devices as things: sorted, searched, with own fields, and what changed since."""

from datetime import timedelta

import pytest

from lumtar.core.discovery import Described
from lumtar.domain.inventory import catalogue, services
from lumtar.domain.inventory.description import describe
from lumtar.domain.inventory.models import Device, OwnField
from lumtar.domain.logbook.models import Entry
from tests.domain.conftest import NOW

pytestmark = pytest.mark.django_db


def said(serial, software, model="FH-2100", name="box"):
    return Described(name, "a switch", "1.3.6.1.4.1.32473.1.12", "", "", "Fernhall", model, serial, software)


@pytest.fixture
def three():
    catalogue.make_field("Rack", "choice", ["R1", "R2"], "anna")
    made = []
    for number, (site, software) in enumerate((("Depot", "4.2.1"), ("Saltby", "4.2.0"), ("Depot", "4.10.0")), 1):
        device = services.add_device(f"127.0.0.{number}", name=f"box-{number}", site=site, way="icmp")
        describe(device, said(f"S{number}", software), [], [], NOW)
        made.append(device)
    Entry.objects.all().delete()
    services.change_device(made[0].pk, 1, "anna", own={"Rack": "R1"}, groups=["Core"], tags={"owner": "it"})
    Entry.objects.update(at=NOW)
    return made


def names(**told):
    return [item.name for item in catalogue.items(limit=100, **told)[0]]


def test_sorted_either_way_by_every_column(three):
    for column in catalogue.COLUMNS:
        assert len(names(sort=column)) == len(names(sort=f"-{column}")) == 3
    assert names(sort="-name") == ["box-3", "box-2", "box-1"]
    assert names(sort="site")[2] == "box-2"
    with pytest.raises(ValueError, match="no order 'colour'"):
        names(sort="colour")


@pytest.mark.parametrize(
    ("words", "found"),
    [("4.2.", ["box-1", "box-2"]), ("s3", ["box-3"]), ("core", ["box-1"]), ("owner R1", ["box-1"]), ("%", [])],
)
def test_words_look_everywhere(three, words, found):
    assert names(words=words) == found


def test_pages_sites_and_everything(three):
    rows, total = catalogue.items(limit=1, offset=1)
    assert (rows[0].name, total) == ("box-2", 3)
    assert names(site="Depot") == ["box-1", "box-3"]
    assert [item.name for item in catalogue.everything(sort="name")] == ["box-1", "box-2", "box-3"]
    item = catalogue.items(limit=1)[0][0]
    assert (item.groups, item.tags, item.own) == (["Core"], {"owner": "it"}, {"Rack": "R1"})


def test_another_serial_number_or_software_is_news(three):
    describe(three[1], said("S9", "4.3.0"), [], [], NOW + timedelta(days=1))
    texts = set(Entry.objects.filter(device=three[1]).values_list("text", flat=True))
    assert texts == {"box-2: serial number is S9 now, was S2", "box-2: software is 4.3.0 now, was 4.2.0"}
    assert names(since=NOW + timedelta(hours=1)) == ["box-2"]
    assert names(since=NOW + timedelta(days=2)) == []
    describe(three[1], said("S9", "4.3.0"), [], [], NOW + timedelta(days=1))
    assert Entry.objects.filter(device=three[1]).count() == 2


def test_retired_devices_are_not_in_it(three):
    services.retire(three[0].pk, "anna")
    assert names() == ["box-2", "box-3"]


@pytest.mark.parametrize(
    ("name", "kind", "choices", "words"),
    [
        ("", "text", [], "1 to 60"),
        ("a,b", "text", [], "none of them a comma"),
        ("Site", "text", [], "called already"),
        ("Rack", "text", [], "There is a field called Rack"),
        ("Shelf", "colour", [], "A field holds"),
        ("Shelf", "choice", ["one"], "two values"),
    ],
)
def test_fields_that_cannot_be_made(three, name, kind, choices, words):
    with pytest.raises(ValueError, match=words):
        catalogue.make_field(name, kind, choices, "anna")


def test_a_field_goes_with_what_it_held(three):
    catalogue.remove_field(OwnField.objects.get().pk, "anna")
    assert Device.objects.get(name="box-1").own == {}
    assert Entry.objects.filter(text="own field Rack deleted with its values at 1 device").exists()
