"""Kinds of components: which there are, from the columns that a device showed."""

import pytest

from lumtar.core.components import KINDS
from lumtar.core.components.registry import Column, ComponentKind, columns, part
from lumtar.core.profiles import Table


def found(kind, **rows):
    """The components of a kind, from columns given as index -> value; columns that are not given are empty."""
    told = {column.name: {} for column in KINDS[kind].columns} | rows
    return [(each.index, each.name, each.unit, each.scale) for each in KINDS[kind].discover(told)]


def at(**values):
    """Rows whose index is one number: r3=... stands for the row 3."""
    return {(int(name[1:]),): value for name, value in values.items()}


def test_processors_are_numbered_in_the_devices_order():
    assert found("processor", hrProcessorLoad=at(r196608=7, r196609=9)) == [
        ("196608", "Processor 1", "%", 1.0), ("196609", "Processor 2", "%", 1.0),
    ]  # fmt: skip


def test_memory_and_disks_are_told_apart_by_their_type_and_need_a_size():
    types = {number: bytes([0x2B, 6, 1, 2, 1, 25, 2, 1, number]) for number in (1, 2, 4, 9)}
    rows = {
        "hrStorageType": at(r1=types[2], r2=types[4], r3=types[9], r4=types[1], r5=types[2]),
        "hrStorageDescr": at(r1=b"Memory", r2=b"", r3=b"Flash"),
        "hrStorageSize": at(r1=100, r2=100, r3=100, r4=100, r5=0),
    }
    assert [each[:2] for each in found("memory", **rows)] == [("1", "Memory")]
    assert [each[:2] for each in found("storage", **rows)] == [("2", "storage 2"), ("3", "Flash")]


@pytest.mark.parametrize(
    ("kind", "scale", "precision", "unit", "factor"),
    [(8, 9, 1, "°C", 0.1), (4, 8, 0, "V", 0.001), (6, 10, 0, "W", 1000.0), (12, 9, 0, "", 1.0)],
)
def test_sensors_have_the_scale_of_rfc_3433(kind, scale, precision, unit, factor):
    rows = {
        "entPhySensorType": at(r7=kind),
        "entPhySensorScale": at(r7=scale),
        "entPhySensorPrecision": at(r7=precision),
        "entPhysicalDescr": at(r7=b"Inlet"),
    }
    assert found("sensor", **rows) == [("7", "Inlet", unit, pytest.approx(factor))]
    assert found("sensor", **rows, entPhySensorOperStatus=at(r7=2)) == [], "it is not in operation"


def test_fans_and_power_supplies_are_told_apart_by_their_class():
    rows = {
        "entStateOper": at(r101=3, r201=2),
        "entPhysicalClass": at(r101=6, r201=7),
        "entPhysicalName": at(r101=b"PSU 1"),
    }
    assert found("supply", **rows) == [("101", "PSU 1", "state", 1.0)]
    assert found("fan", **rows) == [("201", "fan 201", "state", 1.0)]
    assert KINDS["fan"].word(2) == "out of order" and KINDS["fan"].is_fault(2)
    assert not KINDS["fan"].is_fault(1) and not KINDS["fan"].is_fault(None) and not KINDS["processor"].is_fault(99)


def test_ports_with_power_are_named_by_their_group_where_there_are_several():
    port = {"pethPsePortDetectionStatus": {(1, 4): 3}}
    assert found("poe port", **port, pethMainPsePower=at(r1=370))[0][1] == "PoE port 4"
    assert found("poe port", **port, pethMainPsePower=at(r1=370, r2=370))[0][1] == "PoE port 1.4"
    assert [each[1] for each in found("poe budget", pethMainPsePower=at(r1=370, r2=370))] == [
        "PoE 1 budget",
        "PoE 2 budget",
    ]


def test_a_further_kind_is_registered_and_nothing_else(monkeypatch):
    """A toy: batteries. Its column is checked at the wire, and its state is a word, without a line elsewhere."""
    charge = Column("toyBatteryState", "1.3.6.1.4.1.32473.9.1.1", 1, 2)
    kind = ComponentKind(
        "battery", "battery", Table.SENSORS, (charge,), lambda rows: [part("battery", index, "Battery", "state") for index in rows["toyBatteryState"]],
        value=charge, states={1: "charging", 2: "empty"}, good=frozenset((1,)),
    )  # fmt: skip
    monkeypatch.setitem(KINDS, "battery", kind)
    assert found("battery", toyBatteryState=at(r5=2)) == [("5", "Battery", "state", 1.0)]
    assert KINDS["battery"].word(2) == "empty" and KINDS["battery"].is_fault(2)
    assert columns()["1.3.6.1.4.1.32473.9.1.1"] is charge
