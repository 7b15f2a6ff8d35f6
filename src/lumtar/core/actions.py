"""What can be done to a port or a device by SNMP: a registry of actions, each one object that is set and read back."""

from dataclasses import dataclass
from enum import StrEnum

from lumtar.core.refusal import Refusal

LONGEST_DESCRIPTION = 64
"""Octets of ifAlias (RFC 2863)."""


class Of(StrEnum):
    """What the instance of an object is found by."""

    INTERFACE = "interface"
    """Its ifIndex."""
    POE_PORT = "poe port"
    """The group and number of a port that gives power."""


@dataclass(frozen=True, slots=True)
class Action:
    """An action.

    Attributes
    ----------
    name : in the API
    words : what a person chooses
    done : what the logbook says was done
    oid, object : the column that is set, and what its MIB calls it
    of : by what the instance is found
    value : the number that is set; None if a text is given with the action
    values : what the numbers of the object mean
    """

    name: str
    words: str
    done: str
    oid: str
    object: str
    of: Of
    value: int | None = None
    values: tuple[tuple[int, str], ...] = ()

    def shown(self, value: int | bytes | None) -> str:
        """A value of its object for people."""
        if value is None:
            return "not known"
        if isinstance(value, bytes):
            return value.decode(errors="replace")
        return dict(self.values).get(value, str(value))


ADMIN = ((1, "up"), (2, "down"), (3, "testing"))
TRUTH = ((1, "on"), (2, "off"))
ADMIN_STATUS = ("1.3.6.1.2.1.2.2.1.7", "ifAdminStatus", Of.INTERFACE)
POE_ENABLE = ("1.3.6.1.2.1.105.1.1.1.3", "pethPsePortAdminEnable", Of.POE_PORT)
ACTIONS = {
    each.name: each
    for each in (
        Action("port_down", "switch the port off", "switched off", *ADMIN_STATUS, 2, ADMIN),
        Action("port_up", "switch the port on", "switched on", *ADMIN_STATUS, 1, ADMIN),
        Action("poe_off", "switch its power off", "power over Ethernet switched off", *POE_ENABLE, 2, TRUTH),
        Action("poe_on", "switch its power on", "power over Ethernet switched on", *POE_ENABLE, 1, TRUTH),
        Action(
            "describe",
            "change its description",
            "description changed",
            "1.3.6.1.2.1.31.1.1.1.18",
            "ifAlias",
            Of.INTERFACE,
        ),
    )
}


def check_reason(reason: str) -> str:
    """Why somebody does something, as it is kept.

    Raises
    ------
    Refusal
    """
    words = " ".join(reason.split())
    if not 3 <= len(words) <= 200:
        raise Refusal("Say in 3 to 200 characters why; it is kept in the logbook.", "reason")
    return words


def check_text(action: Action, text: str) -> str:
    """The text that is set.

    Raises
    ------
    Refusal
    """
    words = text.strip()
    if action.value is None and (len(words.encode()) > LONGEST_DESCRIPTION or not words.isprintable()):
        raise Refusal(f"A description has at most {LONGEST_DESCRIPTION} characters, all of them printable.", "text")
    return words
