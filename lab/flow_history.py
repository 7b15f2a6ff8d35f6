"""The past of the demonstration's flows: hours for as long as readings go back, minutes of the last day.

Who talks to whom is the same at any time, only how much changes: which rows there can be is worked out once, and each step fills them in,
to the octet as the ports counted.
"""

from collections.abc import Callable, Sequence
from datetime import UTC, datetime

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lab.background_writer import Writer
from lab.counting import Group, is_silent
from lab.flows import EXPORT_S, LISTED, PROTOCOLS, Exporting, copied, copy_of, odd_at, tells_more
from lab.incidents import INCIDENTS, Silence
from lab.inventory import Loaded
from lab.response_history import ResponseHistory
from lab.routing import site_number
from lab.scenario import SITES, Box, Port, Scenario
from lab.server_names import server_names
from lumtar.core.flows import totals
from lumtar.core.flows.lookups import Interfaces, Prefixes
from lumtar.core.flows.response_times import Responses, Seen
from lumtar.core.flows.server_names import ServerNames
from lumtar.core.flows.totals import Conversations
from lumtar.domain.flows import applications, response_times, store
from lumtar.domain.flows.models import Exporter
from lumtar.domain.inventory.models import Site
from lumtar.domain.operation import due
from lumtar.domain.operation.partitioned import Partitioned

DAY, HOUR, MINUTE = 86400, 3600, 60
MINUTES_BACK = ((27, 22), (3, 0))
"""Hours ago for which there are minutes: now, and yesterday to compare with; other times have their hours."""
RESPONSES = {store.MINUTES: store.RESPONSE_MINUTES, store.HOURS: store.RESPONSE_HOURS}
KEPT = {MINUTE: 8, HOUR: 15}
"""Conversations of a port and way that are kept one by one, so that the demonstration is loaded soon."""
ROWS_AT_ONCE = 200_000


class Rows:
    """Which rows there are, and which records each is the sum of.

    Attributes
    ----------
    parts : conversations, in the order of interfaces and ways
    begins : where the conversations of each interface and way begin
    rest : what they are put together as
    rest_of : for each conversation which row of the rest
    """

    def __init__(self, sides: Conversations, whose: NDArray[np.int64], device_of: dict[int, int]) -> None:
        order, begins = totals.alike(sides)
        unique = totals.counted_once(totals.added(sides), device_of)
        place = np.empty(len(sides), "i8")
        place[order] = np.repeat(np.arange(len(begins)), np.diff(np.append(begins, len(order))))
        sorting = np.lexsort((unique["way"], unique["interface"]))
        rank = np.empty(len(unique), "i8")
        rank[sorting] = np.arange(len(unique))
        self.parts = unique[sorting]
        self._whose, self._place = whose, rank[place]
        where = self.parts["interface"].astype("i8") * 2 + self.parts["way"]
        self.begins = np.flatnonzero(np.append(True, np.diff(where) != 0))
        rest = totals.put_together(self.parts)
        order, begins = totals.alike(rest)
        self.rest = rest[order[begins]]
        self.rest_of = np.empty(len(rest), "i8")
        self.rest_of[order] = np.repeat(np.arange(len(begins)), np.diff(np.append(begins, len(order))))

    def filled(self, octets: NDArray[np.float64], minute: int, flows: int, most: int) -> Conversations:
        """Rows of a minute (or an hour that begins with it), from the octets of each record."""
        of_each = np.bincount(self._place, octets[self._whose], len(self.parts))
        is_kept = np.zeros(len(of_each), bool)
        for begin, end in zip(self.begins, np.append(self.begins[1:], len(of_each)), strict=True):
            mine = of_each[begin:end]
            is_kept[begin + np.argpartition(-mine, min(most, len(mine) - 1))[:most]] = True
        is_kept &= of_each > 0
        smaller = np.where(is_kept, 0.0, of_each)
        rest, number = (
            np.bincount(self.rest_of, each, len(self.rest)) for each in (smaller, (smaller > 0).astype("f8"))
        )
        found = []
        for rows, amounts, count in (
            (self.parts[is_kept], of_each[is_kept], np.ones(int(is_kept.sum()))),
            (self.rest[rest > 0], rest[rest > 0], number[rest > 0]),
        ):
            rows["minute"], rows["octets"], rows["flows"] = minute, amounts, flows * count
            rows["packets"] = np.maximum(1, amounts // 800)
            found.append(rows)
        return np.concatenate(found)


class FlowHistory:
    """Computes what exporters told before the demonstration was loaded, and writes it."""

    def __init__(self, scenario: Scenario, loaded: Sequence[Loaded], epoch: float) -> None:
        self._epoch = epoch
        self._exporting = Exporting(scenario, {}, epoch, 0)
        self._loaded = [each for each in loaded if each.box.name in self._exporting.encoders]
        self._ports: list[tuple[Box, Port]] = [
            (each.box, port)
            for each in self._loaded
            for port in each.box.ports
            if (each.box.name, port.index) in self._exporting.outlines
        ]
        self._group = Group(scenario, self._ports, epoch, INCIDENTS)
        self._responses = ResponseHistory(epoch)
        self._rows = self._all_rows()
        self._writer = Writer()

    def _all_rows(self) -> Rows:
        known_applications, names = applications.in_force(), ServerNames()
        sites = _sites()
        interfaces = {
            each.box.name: (each.device.pk, Interfaces.of({port.if_index: port.pk for port in each.interfaces}))
            for each in self._loaded
        }
        device_of = {port.pk: each.device.pk for each in self._loaded for port in each.interfaces}
        sides, whose, before = [], [], 0
        for box, port in self._ports:
            outlines = self._exporting.outlines[box.name, port.index]
            records = np.concatenate((outlines.records, *(copy_of(box, port, way) for way in (0, 1))))
            # Among exporters the one that tells of most is believed.
            records["octets"] = 1 + np.append(1e6 * outlines.weight, (0.0, 0.0))
            if tells_more(box.name):
                records["server_name"] = names.numbers_of(server_names(records))
            service = totals.service_port(
                records["src_port"], records["dst_port"], records["protocol"], known_applications.known_ports
            )
            known = interfaces[box.name][1]
            seen = Seen(
                service,
                known_applications.find(records, service, names),
                (known.find(records["input"]), known.find(records["output"])),
                (sites.find(records["src_hi"], records["src_lo"]), sites.find(records["dst_hi"], records["dst_lo"])),
            )
            told, record = totals.passed(records, service, seen.interfaces, seen.applications, seen.sites)
            self._responses.add(box, port, records, interfaces[box.name][0], seen)
            made, which = totals.at_interfaces(told)
            sides.append(made)
            whose.append(record[which] + before)
            before += len(records)
        return Rows(np.concatenate(sides), np.concatenate(whose), device_of)

    def write(self, days: int, say: Callable[[str], None]) -> None:
        """Write hours and minutes; exporters are known since the first of them."""
        first = int((self._epoch - days * 86400) // HOUR) * HOUR
        last_hour, last_minute = int(self._epoch // HOUR) * HOUR, int(self._epoch // MINUTE) * MINUTE
        for table in (store.HOURS, store.NETWORK_HOURS, store.RESPONSE_HOURS):
            table.ensure(_moment(first), _moment(last_minute + HOUR))
        self._write(store.HOURS, HOUR, first, last_hour)
        for begun, over in MINUTES_BACK:
            # The hour that is not over yet is summed up from its minutes, as all later ones.
            begin, end = max(first, last_hour - begun * HOUR), last_hour - over * HOUR if over else last_minute
            for table in (store.MINUTES, store.RESPONSE_MINUTES):
                table.ensure(_moment(begin), _moment(end))
            self._write(store.MINUTES, MINUTE, begin, end)
        self._writer.finish()
        for sums in (store.FLOW_HOURS, store.RESPONSES_OF_HOURS):
            due.forget(sums, _moment(last_hour))
        self._analyse(store.HOURS)
        for begin in range(first, last_hour, DAY):
            store.sum_network_up(_moment(begin), _moment(min(begin + DAY, last_hour)))
        self._exporters(_moment(first))
        self._analyse(store.NETWORK_HOURS, store.MINUTES, store.RESPONSE_HOURS, store.RESPONSE_MINUTES)
        say(f"  flows of {days} days")

    @staticmethod
    def _analyse(*tables: Partitioned) -> None:
        with connection.cursor() as cursor:
            cursor.execute(f"ANALYZE {', '.join(map(str, tables))}")

    def _write(self, table: Partitioned, step: int, first: int, last: int) -> None:
        waiting: list[Conversations] = []
        number = 0
        answers: list[Responses] = []
        for begin in range(first, last, step):
            conversations, responses = self._step(begin, step)
            waiting.append(conversations)
            answers.append(responses)
            number += len(conversations)
            if number > ROWS_AT_ONCE:
                store.append(np.concatenate(waiting), table=table)
                waiting, number = [], 0
        if waiting:
            store.append(np.concatenate(waiting), table=table)
        if answers:
            response_times.append(np.concatenate(answers), table=RESPONSES[table])

    def _step(self, begin: int, step: int) -> tuple[Conversations, Responses]:
        end = begin + step
        exporting = self._exporting
        gone = exporting.sources.octets(end + exporting.ahead) - exporting.sources.octets(begin + exporting.ahead)
        n = len(self._ports)
        long_ago = np.full(n, self._epoch - 400 * 86400.0)
        counted = (
            self._group.counters(np.full(n, float(end)), long_ago)
            - self._group.counters(np.full(n, float(begin)), long_ago)
        )[:, :2]
        filled = [
            self._of_port(box, port, begin, step, counted[row], gone) for row, (box, port) in enumerate(self._ports)
        ]
        rows = self._rows.filled(np.concatenate(filled), begin // MINUTE, int(step // EXPORT_S), KEPT[step])
        return rows, self._responses.step(begin, step, filled, counted)

    def _of_port(
        self, box: Box, port: Port, begin: int, step: int, counted: NDArray[np.float64], gone: NDArray[np.float64]
    ) -> NDArray[np.float64]:
        """Octets of each record of a port, and of a copy each way."""
        outlines = self._exporting.outlines[box.name, port.index]
        middle = begin + step / 2
        if is_silent(box, self._epoch, middle, (each for each in INCIDENTS if isinstance(each, Silence))):
            return np.zeros(len(outlines.records) + 2)
        told = np.append(outlines.octets(gone, step, odd_at(box.name, middle - self._epoch)), (0.0, 0.0))
        ways = np.append(outlines.way, (0, 1))
        for way in (0, 1):
            mine = ways == way
            total = float(told[mine].sum())
            told[len(outlines.way) + way] = copied(counted[way], total)
            if (total := float(told[mine].sum())) > 0:
                upto = np.floor(np.cumsum(told[mine]) / total * counted[way])
                upto[-1] = counted[way]
                told[mine] = np.diff(np.append(0.0, upto))
        return told

    def _exporters(self, since: datetime) -> None:
        now = _moment(int(self._epoch))
        made = []
        for each in self._loaded:
            protocol = PROTOCOLS.get(each.box.name, "netflow9")
            known = f"sflow {each.box.address}" if protocol == "sflow" else LISTED.get(protocol, protocol)
            made.append(
                Exporter(
                    address=each.box.address, protocol=known, domain=0, device=each.device, first_at=since, last_at=now
                )
            )
        Exporter.objects.bulk_create(made)


def _sites() -> Prefixes:
    """Sites by the networks that the county gave them."""
    numbers = dict(Site.objects.values_list("name", "pk"))
    found: dict[str, int] = {}
    for name in SITES:
        if name in numbers:
            number = site_number(name)
            found[f"10.{number}.0.0/16"] = found[f"2001:db8:{number:x}::/48"] = numbers[name]
    return Prefixes.of(found)


def _moment(at: int) -> datetime:
    return datetime.fromtimestamp(at, UTC)
