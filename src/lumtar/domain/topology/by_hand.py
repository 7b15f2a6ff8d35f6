"""Links that people enter, one by one or as CSV, where devices tell nothing of each other."""

import csv
import io
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from django.db import transaction
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.core.text import without_apostrophe
from lumtar.core.topology import End
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.logbook.services import note_action
from lumtar.domain.operation.services import announce
from lumtar.domain.topology import other_ends
from lumtar.domain.topology.models import ManualLink
from lumtar.domain.topology.queries import entered_at

COLUMNS = ("from_device", "from_port", "to_device", "to_port", "note")
MOST_LINES = 20_000
LONGEST_NOTE = 200
SAME_PORT = "Both ends are the same device: a link joins two."


@transaction.atomic
def add(a: End, b: End, note: str, by: str) -> ManualLink:
    """Keep a link between two devices; a port that is None is not known.

    Raises
    ------
    Refusal
    """
    if len(note) > LONGEST_NOTE:
        raise Refusal(f"A note has at most {LONGEST_NOTE} characters.", "note")
    if a.device == b.device:
        raise Refusal(SAME_PORT)
    devices = Device.objects.filter(retired_at=None).in_bulk([a.device, b.device])
    ports = Interface.objects.filter(gone_at=None).in_bulk([end.port for end in (a, b) if end.port is not None])
    for field, end in (("a", a), ("b", b)):
        if end.device not in devices:
            raise Refusal("This device is not in the inventory any more.", field)
        if end.port is not None and (end.port not in ports or ports[end.port].device_id != end.device):
            raise Refusal(f"{devices[end.device].name} has no such port any more.", field)
    taken = _Taken(entered_at(timezone.now()))
    if problem := taken.problem(a, b):
        raise Refusal(problem)
    made = ManualLink.objects.create(
        a_device_id=a.device, a_interface_id=a.port, b_device_id=b.device, b_interface_id=b.port, note=note.strip(),
        entered_by=by[:150], since=timezone.now(),
    )  # fmt: skip
    words = " and ".join(
        f"{devices[end.device].name} {ports[end.port].label if end.port is not None else ''}".strip() for end in (a, b)
    )
    note_action(f"link by hand between {words} entered", by, devices[a.device])
    other_ends.write([a.device, b.device])
    announce("topology")
    return made


@transaction.atomic
def remove(pk: int, by: str) -> None:
    """End a link by hand; it stays where the past is shown.

    Raises
    ------
    ManualLink.DoesNotExist
    """
    row = (
        ManualLink.objects.select_for_update(of=("self",))
        .select_related("a_device", "b_device")
        .get(pk=pk, gone_at=None)
    )
    row.gone_at = timezone.now()
    row.save(update_fields=["gone_at"])
    note_action(f"link by hand between {row.a_device.name} and {row.b_device.name} removed", by, row.a_device)
    other_ends.write([row.a_device_id, row.b_device_id])
    announce("topology")


class _Taken:
    """The links by hand that are there already."""

    def __init__(self, rows: Iterable[ManualLink] = ()) -> None:
        self._pairs: set[frozenset[End]] = set()
        self._ports: set[int] = set()
        for row in rows:
            self.take(End(row.a_device_id, row.a_interface_id), End(row.b_device_id, row.b_interface_id))

    def take(self, a: End, b: End) -> None:
        """Another one."""
        self._pairs.add(frozenset((a, b)))
        self._ports |= {end.port for end in (a, b) if end.port is not None}

    def problem(self, a: End, b: End) -> str:
        """Why there cannot be a link between two ends; empty if there can."""
        if frozenset((a, b)) in self._pairs:
            return "This link is entered already."
        if any(end.port in self._ports for end in (a, b)):
            return "One of these ports has a link by hand already; remove that one first."
        return ""


@dataclass(frozen=True, slots=True)
class Line:
    """One line of a list of links: its number in the text, what it says, and what is wrong with it, if anything."""

    number: int
    words: str
    problem: str


@dataclass(frozen=True, slots=True)
class Read:
    """What a list of links comes to: links that would be added, and every line that cannot be read or is there already."""

    added: int
    problems: list[Line]


@transaction.atomic
def read_csv(text: str, by: str, *, keep: bool = False) -> Read:
    """Read links from CSV with the columns COLUMNS, in any order; only from_device and to_device must have a value.

    A device is named by name or address, a port by ifName, label or ifIndex. With ``keep`` the links are added; then no line may
    have a problem.

    Raises
    ------
    Refusal
    """
    rows = _rows(text)
    named = _Named(rows)
    taken, problems, made = _Taken(entered_at(timezone.now())), list[Line](), list[ManualLink]()
    now = timezone.now()
    for number, row in rows:
        a, b = (named.end(row[f"{side}_device"], row[f"{side}_port"]) for side in ("from", "to"))
        problem = next((each for each in (a, b) if isinstance(each, str)), "")
        if not isinstance(a, str) and not isinstance(b, str):
            problem = SAME_PORT if a.device == b.device else taken.problem(a, b)
            if len(row["note"]) > LONGEST_NOTE:
                problem = f"The note has more than {LONGEST_NOTE} characters."
            if not problem:
                taken.take(a, b)
                made.append(
                    ManualLink(
                        a_device_id=a.device,
                        a_interface_id=a.port,
                        b_device_id=b.device,
                        b_interface_id=b.port,
                        note=row["note"],
                        entered_by=by[:150],
                        since=now,
                    )
                )
        if problem:
            words = f"{row['from_device']} {row['from_port']} – {row['to_device']} {row['to_port']}"
            problems.append(Line(number, " ".join(words.split())[:200], problem))
    if keep:
        if problems:
            raise Refusal(f"Line {problems[0].number}: {problems[0].problem} Nothing was added.")
        ManualLink.objects.bulk_create(made, batch_size=2000)
        note_action(f"{len(made)} links by hand entered", by)
        other_ends.write({device for row in made for device in (row.a_device_id, row.b_device_id)})
        announce("topology")
    return Read(len(made), problems)


def _rows(text: str) -> list[tuple[int, dict[str, str]]]:
    """The lines of a CSV text that say anything, with their numbers."""
    reader = csv.DictReader(io.StringIO(text.lstrip("\ufeff")), skipinitialspace=True)
    try:
        names = [(name or "").strip().lower() for name in reader.fieldnames or ()]
        missing = {"from_device", "to_device"} - set(names)
        if missing:
            raise Refusal(
                f"The first line has to name the columns {', '.join(COLUMNS)}, of which from_device and to_device are needed;"
                f" {' and '.join(sorted(missing))} {'is' if len(missing) == 1 else 'are'} missing."
            )
        reader.fieldnames = names
        rows = []
        for row in reader:
            said = {name: without_apostrophe((row.get(name) or "").strip()) for name in COLUMNS}
            if any(said.values()):
                rows.append((reader.line_num, said))
            if len(rows) > MOST_LINES:
                raise Refusal(f"These are more than {MOST_LINES:,} links; enter them in parts.")
    except csv.Error as error:
        raise Refusal(f"Line {reader.line_num} is no CSV: {error}.") from error
    return rows


class _Named:
    """The devices and ports that lines name, by all their names; what several share is known to be shared."""

    def __init__(self, rows: Sequence[tuple[int, Mapping[str, str]]]) -> None:
        self._devices: dict[str, set[int]] = defaultdict(set)
        for pk, name, address in Device.objects.filter(retired_at=None).values_list("pk", "name", "address"):
            self._devices[name.lower()].add(pk)
            self._devices[address.lower()].add(pk)
        meant = {row[f"{side}_device"].lower() for _, row in rows for side in ("from", "to")}
        numbers = {pk for name in meant for pk in self._devices.get(name, ())}
        self._ports: dict[tuple[int, str], set[int]] = defaultdict(set)
        ports = Interface.objects.filter(gone_at=None, device__in=numbers)
        for number, device, name, label, index in ports.values_list("pk", "device_id", "name", "label", "if_index"):
            for called in (name, label, str(index)):
                self._ports[device, called.lower()].add(number)

    def end(self, device: str, port: str) -> End | str:
        """The end that is meant, or what is wrong."""
        found = self._devices.get(device.lower(), set())
        if len(found) != 1:
            return (
                f"{'Several devices are' if found else 'No device is'} called {device}."
                if device
                else "A device is missing."
            )
        (number,) = found
        if not port:
            return End(number, None)
        ports = self._ports.get((number, port.lower()), set())
        if len(ports) != 1:
            return f"{device} has {'several ports' if ports else 'no port'} called {port}."
        return End(number, next(iter(ports)))
