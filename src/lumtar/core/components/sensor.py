"""Sensors: entPhySensorTable of ENTITY-SENSOR-MIB (RFC 3433)."""

from lumtar.core.components.entities import DESCR, NAME, title
from lumtar.core.components.registry import Column, ComponentKind, Rows, part, register
from lumtar.core.discovery import ComponentDescribed
from lumtar.core.profiles import Table

_ENTRY = "1.3.6.1.2.1.99.1.1.1."
TYPE = Column("entPhySensorType", _ENTRY + "1", 1, 99)
SCALE = Column("entPhySensorScale", _ENTRY + "2", 1, 17)
PRECISION = Column("entPhySensorPrecision", _ENTRY + "3", -8, 9)
VALUE = Column("entPhySensorValue", _ENTRY + "4", -1_000_000_000, 1_000_000_000)
STATUS = Column("entPhySensorOperStatus", _ENTRY + "5", 1, 3)
UNITS = {3: "V", 4: "V", 5: "A", 6: "W", 7: "Hz", 8: "°C", 9: "%", 10: "rpm", 11: "m³/min"}
"""EntitySensorDataType; 3 and 4 are volts of alternating and direct current."""
OK = 1


def _discover(rows: Rows) -> list[ComponentDescribed]:
    sensors = []
    for index, kind in rows["entPhySensorType"].items():
        if rows["entPhySensorOperStatus"].get(index, OK) != OK:
            continue
        # EntitySensorDataScale: 9 is units, every step a factor of 1,000.
        scale, precision = rows["entPhySensorScale"].get(index, 9), rows["entPhySensorPrecision"].get(index, 0)
        factor = 1000.0 ** (int(scale) - 9) / 10.0 ** int(precision)
        name = title(rows, index) or f"Sensor {index[-1]}"
        sensors.append(part("sensor", index[-1:], name, UNITS.get(int(kind), ""), factor))
    return sensors


register(
    ComponentKind(
        "sensor", "sensor", Table.SENSORS, (TYPE, SCALE, PRECISION, STATUS, NAME, DESCR), _discover, value=VALUE
    )
)
