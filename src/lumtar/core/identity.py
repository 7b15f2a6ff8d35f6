"""Whether two answers come from one box: by what it says of itself, the surest sign first."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

PLACEHOLDERS = {"none", "n/a", "unknown", "default", "not specified", "to be filled", "serial number", "123456789"}
"""What some boxes say instead of a serial number."""


@dataclass(frozen=True, slots=True)
class Identity:
    """What a box can be recognised by; what it does not say is empty."""

    address: str
    serial: str = ""
    maker: str = ""
    engine_id: str = ""
    mac: str = ""
    sys_name: str = ""
    sys_object_id: str = ""
    more: frozenset[str] = field(default_factory=frozenset)
    """Further addresses that it is known under."""


def _serial(box: Identity) -> str:
    serial = box.serial.strip().casefold()
    if len(serial) < 4 or serial in PLACEHOLDERS or len(set(serial)) == 1:
        return ""
    return f"{box.maker.casefold()} {serial}"


def _names(box: Identity) -> str:
    return f"{box.sys_name.casefold()} {box.sys_object_id}" if box.sys_name and box.sys_object_id else ""


SIGNS: tuple[tuple[Callable[[Identity], str], Callable[[Identity], str]], ...] = (
    (_serial, lambda box: f"the same serial number, {box.serial}"),
    (lambda box: box.engine_id, lambda box: f"the same SNMP engine id, {box.engine_id}"),
    (lambda box: box.mac, lambda box: f"the same base MAC address, {box.mac}"),
    (_names, lambda box: f"the same sysName, {box.sys_name}, and kind (sysObjectID)"),
)


def same(one: Identity, other: Identity) -> str:
    """Why they are one box, in words; empty if they are not.

    The surest sign that both of them give decides, so that two boxes with serial numbers of
    their own are two even if they bear one name. Where they share no sign, the address does.
    """
    for sign, words in SIGNS:
        mine, yours = sign(one), sign(other)
        if mine and yours:
            return words(one) if mine == yours else ""
    if one.address in {other.address, *other.more} or other.address in one.more:
        return f"the same address, {one.address}"
    return ""


def find(box: Identity, known: Iterable[tuple[int, Identity]]) -> tuple[int, str] | None:
    """The known box that this one is, with the reason."""
    for number, other in known:
        if reason := same(box, other):
            return number, reason
    return None


class Known:
    """Boxes that are known, found again without comparing each with each."""

    def __init__(self) -> None:
        self._boxes: dict[int, Identity] = {}
        self._by: dict[tuple[int, str], list[int]] = {}

    def add(self, number: int, box: Identity) -> None:
        """Know a box, or know more of it."""
        self._boxes[number] = box
        for key in _keys(box):
            numbers = self._by.setdefault(key, [])
            if number not in numbers:
                numbers.append(number)

    def find(self, box: Identity) -> tuple[int, str] | None:
        """The known box that this one is, with the reason."""
        candidates = dict.fromkeys(number for key in _keys(box) for number in self._by.get(key, ()))
        return find(box, ((number, self._boxes[number]) for number in candidates))


def _keys(box: Identity) -> list[tuple[int, str]]:
    keys = [(place, value) for place, (sign, _) in enumerate(SIGNS) if (value := sign(box))]
    return [*keys, *((-1, address) for address in (box.address, *box.more))]
