"""The demonstration's paths, and their past: minutes of the last day, hours for as long as readings go back."""

from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lab.counting import Group, is_silent
from lab.incidents import INCIDENTS, Silence
from lab.paths import CLASSES, HOME, LINKS, PORT, is_measured, way_to
from lab.scenario import Box, Port, Scenario
from lab.service_history import SERVICES, ServiceHistory
from lumtar.core.paths.kinds import PARTS
from lumtar.core.paths.statistics import QUANTILES
from lumtar.domain.inventory.models import Device, Interface, Site
from lumtar.domain.operation import due
from lumtar.domain.paths import classes, judging, levels, store
from lumtar.domain.paths import services as path_services
from lumtar.domain.paths.models import Path, ServiceClass, Transport

MINUTE, HOUR, DAY = 60, 3600, 86400
MINUTES_BACK = 26 * HOUR
DRAWN = 60
"""Round trips that a step is drawn from; more are only counted."""


BY = "demonstration"
PROMISED: dict[str, dict[str, Any]] = {
    "voice": {"limits": {"path_delay_95": 60, "path_jitter": 10, "path_loss": 1}, "share": 99.0},
    "catalogue": {
        "limits": {"path_delay_95": 120, "path_loss": 1}, "share": 98.0, "hours": "Mon-Sat 08:00-20:00", "zone": "UTC",
    },
    "copies": {"limits": {"path_loss": 5}, "share": 95.0},
    SERVICES: {"limits": {"path_delay_95": 1000, "path_failed": 2}, "share": 99.5},
}  # fmt: skip
"""Service classes of the demonstration."""
PROVIDERS = ("Cairnholm Lines", "Fellbrook Telecom")
"""Whose line a branch has, in turns."""


def _transport(box: Box, port: Port, site: Site, place: int) -> Transport:
    down, up = _speeds(port)
    provider = PROVIDERS[(place + (port.name != "wan1")) % len(PROVIDERS)]
    interface = Interface.objects.filter(device__name=box.name, name=port.name).first()
    row = Transport(
        name=f"{site.name} {LINKS[port.name][0]}", provider=provider, site=site, interface=interface, down_bps=down, up_bps=up,
        price=Decimal(40 + down // 2_000_000), currency="EUR",
    )  # fmt: skip
    return classes.keep_transport(row, BY)


class PathHistory:
    """Sets the paths up, and computes what their probes came to."""

    @staticmethod
    def _own_test(sites: dict[str, Site], voice: ServiceClass) -> None:
        """A path that a router measures by itself; it remembers no more than minutes, so there is no past."""
        router = Device.objects.filter(name="dep-wan-1").first()
        row = Path(
            name=f"{HOME} – Hexwater, voice, by dep-wan-1", kind="device", device=router, asked="network/voice Hexwater", dscp=46,
            address="10.9.0.1", from_site=sites[HOME], to_site=sites["Hexwater"], service_class=voice, every_ms=5000,
        )  # fmt: skip
        path_services.keep(row, BY)

    def __init__(self, scenario: Scenario, epoch: float) -> None:
        self._epoch = epoch
        self._boxes: list[tuple[Box, Port]] = [
            (box, port) for box in scenario.boxes if is_measured(box) for port in box.ports if port.name in LINKS
        ]
        self._group = Group(scenario, self._boxes, epoch, INCIDENTS)
        self._dice = np.random.default_rng(17)
        self._paths: list[tuple[int, int, int]] = []
        """Number of the path, which box it leads to, and its DSCP."""

    def write(self, days: int, say: Callable[[str], None]) -> None:
        """Set up paths from the depot to every branch, one of each class, and write their past."""
        sites = {site.name: site for site in Site.objects.all()}
        promised = {name: classes.keep_class(ServiceClass(name=name, **told), BY) for name, told in PROMISED.items()}
        for place, (box, port) in enumerate(self._boxes):
            transport = _transport(box, port, sites[box.site], place // 2)
            line, listens = LINKS[port.name]
            for name, dscp in CLASSES.items():
                row = Path.objects.create(
                    service_class=promised[name], transport=transport,
                    name=f"{HOME} – {box.site}, {name}{'' if listens == PORT else f' over {line}'}", from_site=sites[HOME], groups=[f"Branches over {line}"],
                    to_site=sites[box.site], address=box.address, port=listens, dscp=dscp, octets=200, every_ms=1000, since=store.moment(self._epoch - days * DAY),
                )  # fmt: skip
                self._paths.append((row.pk, place, dscp))
        self._own_test(sites, promised["voice"])
        services = ServiceHistory(self._epoch, days, sites[HOME], sites["Central"], promised[SERVICES])
        first_hour = int((self._epoch - days * DAY) // HOUR) * HOUR
        first, last = int((self._epoch - MINUTES_BACK) // MINUTE) * MINUTE, int(self._epoch // MINUTE) * MINUTE
        last_hour = int(self._epoch // HOUR) * HOUR
        judging.JUDGED.ensure(store.moment(first_hour), store.moment(last + DAY))
        store.HOURS.ensure(store.moment(first_hour), store.moment(last))
        for table in (store.MINUTES, store.FIVES):
            table.ensure(store.moment(first), store.moment(last + DAY))
        for table, step, begin, end in (
            (store.HOURS, HOUR, first_hour, last_hour), (store.MINUTES, MINUTE, first, last),
        ):  # fmt: skip
            rows = [each.step(at, step) for at in range(begin, end, step) for each in (self, services)]
            whole = np.concatenate(rows)
            store.append(whole, table=table)
            if table is store.HOURS:
                judging.append(judging.judged(whole, classes.by_path(), {}, minutes=60))
        for sums in (store.SUMS[store.HOURS], store.JUDGING):
            due.forget(sums, store.moment(last_hour))
        store.DAYS.ensure(store.moment(first_hour), store.moment(last))
        for begin in range(first_hour // DAY * DAY, last // DAY * DAY, DAY):
            levels.roll_up(store.DAYS, store.moment(begin))
        say(f"  {len(self._paths)} paths of {days} days")

    def step(self, begin: int, step: int) -> store.Rows:
        """What probes of packets came to from a time on."""
        n = len(self._boxes)
        long_ago = np.full(n, self._epoch - 400.0 * DAY)
        upto = [self._group.counters(np.full(n, float(at)), long_ago)[:, :2] for at in (begin, begin + step)]
        loads = 8 * (upto[1] - upto[0]) / step / np.array([_speeds(port) for _, port in self._boxes])
        made = np.zeros(len(self._paths), store.ROW)
        trips = np.zeros((len(self._paths), DRAWN))
        loss = np.zeros(len(self._paths))
        for row, (path, place, dscp) in enumerate(self._paths):
            box = self._boxes[place][0]
            ways = [way_to(box.site, float(loads[place, way]), dscp) for way in (0, 1)]
            trips[row] = sum(way.delay_ms for way in ways) + sum(
                way.jitter_ms * self._dice.exponential(size=DRAWN) for way in ways
            )
            loss[row] = 1 - (1 - ways[0].loss) * (1 - ways[1].loss)
            silences: Sequence[Silence] = [each for each in INCIDENTS if isinstance(each, Silence)]
            dead = sum(is_silent(box, self._epoch, begin + (at + 0.5) * step / 10, silences) for at in range(10)) / 10
            loss[row] = max(loss[row], dead)
            made["path"][row], made["out"][row] = path, 1000 * ways[0].delay_ms
            made["back"][row] = 1000 * ways[1].delay_ms
        return self._filled(made, 1000 * trips, loss, begin, step)

    def _filled(
        self, made: store.Rows, trips: NDArray[np.float64], loss: NDArray[np.float64], begin: int, sent: int
    ) -> store.Rows:
        made["at"], made["sent"] = begin, sent
        made["lost"] = np.where(loss >= 1, sent, self._dice.binomial(sent, np.minimum(loss, 1)))
        made["bursts"] = np.where(made["lost"] > 0, np.where(loss > 0.09, 1, made["lost"]), 0)
        made["longest_burst"] = np.where(made["lost"] > 0, np.where(loss > 0.09, made["lost"], 1), 0)
        quantiles = np.quantile(trips, (0.0, *QUANTILES, 1.0), axis=1)
        changes = np.abs(np.diff(trips, axis=1))
        known = {
            **dict(zip(store.TRIPS, quantiles, strict=True)), "mean": trips.mean(axis=1), "variation": changes.mean(axis=1),
            "variation_95": np.quantile(changes, 0.95, axis=1), "jitter": changes.mean(axis=1), "out": made["out"],
            "back": made["back"],
        }  # fmt: skip
        for name, values in known.items():
            made[name] = np.where(made["lost"] < sent, values, np.nan)
        for name in (*PARTS, "certificate_days"):
            made[name] = np.nan
        return made


def _speeds(port: Port) -> tuple[int, int]:
    return port.sold_bps or (port.speed_bps, port.speed_bps)
