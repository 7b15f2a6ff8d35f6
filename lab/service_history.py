"""The demonstration's probes of services, and their past."""

import numpy as np

from lab.incidents import SLOW_SERVERS
from lab.services import ADDRESS, CERTIFICATE_DAYS, PORTS, conditions
from lumtar.core.paths.kinds import KINDS, PARTS
from lumtar.core.paths.statistics import QUANTILES
from lumtar.domain.inventory.models import Site
from lumtar.domain.paths import store
from lumtar.domain.paths.models import Path, ServiceClass

DAY, EVERY_MS = 86400, 10_000
SERVICES = "services"
CATALOGUE = "Catalogue, search"
PROBED: dict[str, tuple[str, dict[str, object]]] = {
    CATALOGUE: (
        "catalogue",
        {
            "kind": "http", "address": ADDRESS, "port": PORTS.https, "verifies": False, "expected": "County of Oskelund",
            "asked": f"https://catalogue.oskelund.example:{PORTS.https}/search?title=map",
        },
    ),
    "Film portal": (
        "films",
        {"kind": "http", "address": ADDRESS, "port": PORTS.http, "asked": f"http://films.oskelund.example:{PORTS.http}/"},
    ),
    "Catalogue, connection": ("connection", {"kind": "tcp", "address": ADDRESS, "port": PORTS.https}),
    "Name server": (
        "names",
        {
            "kind": "dns", "address": ADDRESS, "port": PORTS.names, "asked": "catalogue.oskelund.example A", "expected": "10.0.10.201",
        },
    ),
    "Echo at Central": ("echo", {"kind": "udp", "address": ADDRESS, "port": PORTS.echo, "octets": 200, "every_ms": 1000}),
    "Ping of Central": ("ping", {"kind": "icmp", "address": ADDRESS, "octets": 64, "every_ms": 1000, "traces": True}),
}  # fmt: skip
"""By the name of a path the stand-in service that it asks, and how it is set up."""
USUAL_MS = {name: each.usual_ms for name, each in conditions().items()} | {"connection": 0.4, "ping": 0.1}
SPREAD_MS = 1.5
"""What a service takes beside: the way through this machine."""


class ServiceHistory:
    """Sets the probes up, and computes what they came to."""

    def __init__(self, epoch: float, days: int, home: Site, goal: Site, promised: ServiceClass) -> None:
        self._epoch, self._dice = epoch, np.random.default_rng(23)
        self._paths: list[tuple[Path, str]] = []
        for name, (service, more) in PROBED.items():
            row = Path(name=name, from_site=home, to_site=goal, **({"every_ms": EVERY_MS} | more))
            row.service_class = promised if not KINDS[row.kind].is_packet else None
            row.since = store.moment(epoch - days * DAY)
            row.save()
            self._paths.append((row, service))

    def step(self, begin: int, step: int) -> store.Rows:
        """What probes came to from a time on."""
        made = np.zeros(len(self._paths), store.ROW)
        for name in store.FLOATS:
            made[name] = np.nan
        for at, (path, service) in zip(made, self._paths, strict=True):
            usual = USUAL_MS[service]
            if path.name == CATALOGUE:
                since = begin - self._epoch
                usual = max([usual, *(each.ms for each in SLOW_SERVERS if each.start <= since < each.end)])
            trips = 1000 * (usual + SPREAD_MS * (0.2 + self._dice.exponential(size=60) / 4))
            changes = np.abs(np.diff(trips))
            at["path"], at["at"], at["sent"] = path.pk, begin, step * 1000 // path.every_ms
            for name, value in zip(store.TRIPS, np.quantile(trips, (0.0, *QUANTILES, 1.0)), strict=True):
                at[name] = value
            at["mean"], at["variation"], at["jitter"] = trips.mean(), changes.mean(), changes.mean()
            at["variation_95"] = np.quantile(changes, 0.95)
            if path.kind == "http":
                has_tls = path.asked.startswith("https")
                for name, share_us in zip(PARTS[1:], (400.0, 2600.0 if has_tls else np.nan, 1000 * usual), strict=True):
                    at[name] = share_us
                if has_tls:
                    at["certificate_days"] = CERTIFICATE_DAYS + (self._epoch - begin) / DAY
        return made
