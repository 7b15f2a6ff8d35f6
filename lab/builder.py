"""Putting the demonstration's network together: which boxes stand where, and what is plugged into them."""

import ipaddress
import zlib

import numpy as np

from lab.scenario import AGGREGATE, FIBRE_CHANNEL, SITES, TUNNEL, Box, G, M, Port, Scenario
from lab.traffic import CLASSES, Sources

CLIENTS = (
    # what, shape, peak down, peak up, how often among 24 ports
    ("Reading room", "readers", 9 * M, 1.4 * M, 6),
    ("Self-service", "readers", 2.5 * M, 1 * M, 3),
    ("Front desk", "staff", 8 * M, 2.4 * M, 2),
    ("Printers", "staff", 2 * M, 1 * M, 1),
    ("Door counter", "steady", 40_000, 60_000, 1),
    ("Staff room", "staff", 11 * M, 3 * M, 2),
)


AGGREGATE_AT = 1001
"""The ifIndex of an aggregate."""


def joined(first: str, second: str, other: str, terms: list[tuple[int, float, bool]]) -> list[Port]:
    """Two links to another box, and the aggregate that they are members of."""
    halves = [(source, weight / 2, down) for source, weight, down in terms]
    members = [Port(0, name, f"To {other}", 10 * G, terms=halves, aggregate=AGGREGATE_AT) for name in (first, second)]
    return [*members, Port(0, "ag1", f"Aggregate to {other}", 20 * G, AGGREGATE, terms=terms)]


class Builder:
    """Puts the network together, box by box, and keeps the sources in step."""

    def __init__(self) -> None:
        self.boxes: list[Box] = []
        self.classes: list[int] = []
        self.peaks: list[tuple[float, float]] = []
        self.dice = np.random.default_rng(32473)
        self._next = ipaddress.IPv4Address("127.64.0.10")
        self._access_points: dict[str, int] = {}
        """How many there are at each site."""

    def source(self, shape: str, down: float, up: float) -> int:
        """A new source of traffic."""
        vary = self.dice.uniform(0.6, 1.3, 2)
        self.classes.append(CLASSES.index(shape))
        self.peaks.append((down * vary[0], up * vary[1]))
        return len(self.classes) - 1

    def box(self, name: str, site: str, family: str, **more: object) -> Box:
        """A new box at the next address."""
        self._next += 1
        up_days = float(self.dice.uniform(9, 210))
        made = Box(name, site, family, str(self._next), up_days=up_days, **more)  # type: ignore[arg-type]
        made.sensors.append(("Inlet temperature", 24.0, 3.0))
        self.boxes.append(made)
        return made

    def client_ports(self, box: Box, count: int, prefix: str = "") -> list[int]:
        """Access ports with people and things behind them; returns their sources."""
        plan = [(what, shape, down, up) for what, shape, down, up, often in CLIENTS for _ in range(often)]
        short = box.name[:3]
        plan += [(f"{short}-ap", "wireless", 22 * M, 5 * M)] * 3
        made = []
        for index in range(1, count + 1):
            repeat = (index - 1) % 24
            what, shape, down, up = plan[repeat] if repeat < len(plan) else ("", "silent", 0, 0)
            quiet = not what or self.dice.random() < 0.08
            number = sum(port.alias.startswith(what) for port in box.ports) + 1 if what else 0
            alias = f"{what} {number}"
            if shape == "wireless":
                self._access_points[short] = self._access_points.get(short, 0) + 1
                alias = f"{what}-{self._access_points[short]}"
            port = Port(
                index,
                f"g{index}",
                "" if not what else alias,
                100 * M if what in ("Printers", "Door counter") else G,
                up=not quiet,
            )
            if not quiet:
                source = self.source(shape, down, up)
                port.terms.append((source, 1.0, True))
                made.append(source)
            box.ports.append(port)
        return made

    def branch(self, site: str, switches: int) -> list[int]:
        """A branch: a router with two transports, and one or two access switches."""
        short = site[:3].lower()
        everything: list[int] = []
        router = self.box(f"{short}-wan-1", site, "wan", version3=site in ("Hexwater", "Saltby", "Varrick"))
        router.sensors.append(("Processor temperature", 48.0, 6.0))
        lans = []
        for number in range(1, switches + 1):
            switch = self.box(f"{short}-acc-{number}", site, "acc")
            sources = self.client_ports(switch, 24)
            if number == 1:
                scanner = self.source("copy", 2 * M, 46 * M)
                switch.ports[22] = Port(23, "g23", "Scanner room", terms=[(scanner, 1.0, True)])
                sources.append(scanner)
            everything += sources
            switch.ports.append(
                Port(25, "x1", f"Uplink to {router.name}", terms=[(source, 1.0, False) for source in sources])
            )
            switch.ports.append(Port(26, "x2", "", up=False))
            lans.append((switch.name, sources))
        sold = 500 * M if switches > 1 else 300 * M
        router.ports = [
            Port(
                1,
                "wan1",
                "Transport A",
                G,
                sold_bps=(sold, sold // 2),
                terms=[(source, 0.7, False) for source in everything],
            ),
            Port(
                2,
                "wan2",
                "Transport B",
                G,
                sold_bps=(200 * M, 100 * M),
                terms=[(source, 0.3, False) for source in everything],
            ),
            *(
                Port(2 + n, f"lan{n}", f"To {name}", terms=[(source, 1.0, True) for source in sources])
                for n, (name, sources) in enumerate(lans, 1)
            ),
            *(Port(number, f"lan{number - 2}", "", up=False) for number in range(3 + len(lans), 7)),
        ]
        for number, share in ((1, 0.7), (2, 0.3)):
            router.ports.append(
                Port(
                    100 + number,
                    f"tun{number}",
                    f"Tunnel on transport {'AB'[number - 1]}",
                    500 * M,
                    TUNNEL,
                    terms=[(source, share, False) for source in everything],
                    carrier=number,
                )
            )
        return everything

    def core(self, name: str, site: str, links: list[Port], spare: int, clients: int = 0) -> Box:
        """An aggregation switch: its links first, then clients, then empty ports."""
        box = self.box(name, site, "core", processors=2)
        self.client_ports(box, clients)
        for link in (each for each in links if each.kind != AGGREGATE):
            link.index = len(box.ports) + 1
            box.ports.append(link)
        for index in range(len(box.ports) + 1, len(box.ports) + 1 + spare):
            box.ports.append(Port(index, f"t{index}", "", 10 * G, up=False))
        for aggregate in (each for each in links if each.kind == AGGREGATE):
            aggregate.index = AGGREGATE_AT
            box.ports.append(aggregate)
        return box

    def build(self) -> Scenario:
        """The whole county."""
        branches: dict[str, list[int]] = {}
        for site in SITES[2:-1]:
            branches[site] = self.branch(site, 2 if site in ("Alderwick", "Dunmere", "Rushford") else 1)
        wireless = self.source("wireless", 20 * M, 4 * M)
        mobile = self.box("whe-wan-1", "Wheelbus", "wan")
        mobile.ports = [
            Port(1, "cell1", "Cellular", 50 * M, wide=False, terms=[(wireless, 1.0, False)]),
            Port(2, "wlan1", "On-board wireless", 300 * M, wide=False, terms=[(wireless, 1.0, True)]),
            Port(3, "lan1", "Desk", 100 * M, wide=False, up=False),
        ]
        out = [source for sources in branches.values() for source in sources]
        self.central(out, [wireless])
        self.depot(branches)
        self.new_branch()
        sources = Sources(
            np.array(self.classes, np.int64),
            np.array(self.peaks, np.float64),
            np.array([zlib.crc32(f"source {number}".encode()) for number in range(len(self.classes))], np.uint64)
            * np.uint64(2654435761),
        )
        return Scenario(self.boxes, sources)

    def central(self, branches: list[int], wireless: list[int]) -> None:
        """The central library: two aggregation switches, access, firewall, wide area, wireless."""
        floors = []
        for number in (1, 2, 3, 4):
            switch = self.box(f"cen-acc-{number}", "Central", "acc")
            sources = self.client_ports(switch, 48)
            switch.ports.append(
                Port(
                    49,
                    "x1",
                    f"Uplink to cen-core-{1 + number % 2}",
                    10 * G,
                    terms=[(source, 1.0, False) for source in sources],
                )
            )
            switch.ports.append(Port(50, "x2", "", 10 * G, up=False))
            floors.append((switch.name, sources))
        people = [source for _, sources in floors for source in sources]
        web = self.source("readers", 60 * M, 260 * M)
        internet = [(source, 0.6, True) for source in [*branches, *people]] + [
            (web, 1.0, False),
            (wireless[0], 0.6, True),
        ]
        inward = [(source, weight, not down) for source, weight, down in internet]
        wan = [(source, 0.7, True) for source in branches]
        copies = [(source, 1.0, False) for source in people[::3]]
        backbone = [(source, 0.3, True) for source in branches] + copies
        second = [(source, 1.0, True) for _, sources in floors[::2] for source in sources]
        self.core(
            "cen-core-1",
            "Central",
            [
                Port(0, "t1", "To cen-fw-1", 10 * G, terms=internet),
                Port(0, "t2", "To cen-wan-1", 10 * G, terms=[(s, w, True) for s, w, _ in wan]),
                Port(0, "t3", "Backbone to dep-core-1", 2_500 * M, terms=[(s, w, not d) for s, w, d in backbone]),
                *(
                    Port(0, f"t{4 + n}", f"To {name}", 10 * G, terms=[(s, 1.0, True) for s in sources])
                    for n, (name, sources) in enumerate(floors[1::2])
                ),
                *joined("t6", "t7", "cen-core-2", [*second, (web, 1.0, True)]),
            ],
            spare=10,
        )
        self.core(
            "cen-core-2",
            "Central",
            [
                *(
                    Port(0, f"t{1 + n}", f"To {name}", 10 * G, terms=[(s, 1.0, True) for s in sources])
                    for n, (name, sources) in enumerate(floors[::2])
                ),
                Port(0, "t3", "Web catalogue", G, terms=[(web, 1.0, True)]),
                *joined("t4", "t5", "cen-core-1", [(s, w, not d) for s, w, d in [*second, (web, 1.0, True)]]),
            ],
            spare=10,
            clients=8,
        )
        firewall = self.box("cen-fw-1", "Central", "fw", processors=4)
        firewall.sensors.append(("Processor temperature", 56.0, 9.0))
        firewall.ports = [
            Port(1, "outside", "Internet", 10 * G, sold_bps=(4 * G, 4 * G), terms=inward),
            Port(2, "inside", "To cen-core-1", 10 * G, terms=internet),
            *(Port(index, f"p{index}", "", G, up=False) for index in range(3, 9)),
        ]
        router = self.box("cen-wan-1", "Central", "wan", processors=2, version3=True)
        router.ports = [
            Port(1, "wan1", "Transport A", 10 * G, sold_bps=(3 * G, 3 * G), terms=wan),
            Port(2, "lan1", "To cen-core-1", 10 * G, terms=[(s, w, not d) for s, w, d in wan]),
            *(Port(index, f"p{index}", "", G, up=False) for index in range(3, 9)),
        ]
        controller = self.box("cen-wlc-1", "Central", "wlc")
        access_points = self.wireless_sources()
        controller.ports = [
            Port(1, "trunk1", "Public wireless", 10 * G, terms=[(source, 1.0, True) for source in access_points]),
            *(Port(index, f"p{index}", "", G, up=False) for index in (2, 3, 4)),
        ]

    def new_branch(self) -> None:
        """A branch that nobody has entered yet; its router answers at three addresses."""
        before = len(self.boxes)
        self._next = ipaddress.IPv4Address("127.64.4.19")
        self.branch("Yarrowby", 2)
        for box in self.boxes[before:]:
            box.is_new, box.version3 = True, False
        self.boxes[before].also = ("127.64.5.1", "127.64.6.1")

    def wireless_sources(self) -> list[int]:
        """Sources behind access points."""
        return [number for number, shape in enumerate(self.classes) if CLASSES[shape] == "wireless"]

    def depot(self, branches: dict[str, list[int]]) -> None:
        """The depot: servers, storage, the second transport, the backbone's other end."""
        out = [source for sources in branches.values() for source in sources]
        backbone = self.boxes[[box.name for box in self.boxes].index("cen-core-1")].port("t3").terms
        catalogue = self.source("index", 120 * M, 420 * M)
        backup = self.source("backup", 40 * M, 2200 * M)
        transport = [(source, 0.3, True) for source in out]
        self.core(
            "dep-core-1",
            "Depot",
            [
                Port(0, "t1", "Backbone to cen-core-1", 2_500 * M, terms=[(s, w, not d) for s, w, d in backbone]),
                Port(0, "t2", "To dep-wan-1", 10 * G, terms=transport),
                Port(0, "t3", "Catalogue server", G, terms=[(catalogue, 1.0, True)]),
                Port(0, "t4", "Backup server", 10 * G, terms=[(backup, 1.0, True)]),
                Port(0, "t5", "To dep-fs-1", 10 * G, terms=[(backup, 1.0, False), (catalogue, 0.5, False)]),
            ],
            spare=14,
        )
        router = self.box("dep-wan-1", "Depot", "wan", processors=2, version3=True)
        router.ports = [
            Port(1, "wan1", "Transport B", 10 * G, sold_bps=(2 * G, 2 * G), terms=transport),
            Port(2, "lan1", "To dep-core-1", 10 * G, terms=[(s, w, not d) for s, w, d in transport]),
        ]
        for number, (site, sources) in enumerate(branches.items(), 1):
            router.ports.append(
                Port(
                    100 + number,
                    f"tun{number}",
                    f"Tunnel to {site}",
                    500 * M,
                    TUNNEL,
                    terms=[(source, 0.3, True) for source in sources],
                    carrier=1,
                )
            )
        switch = self.box("dep-acc-1", "Depot", "acc")
        self.client_ports(switch, 48)
        storage = self.box("dep-fs-1", "Depot", "fs")
        storage.ports = [
            Port(
                index,
                f"fc{index}",
                f"Array {index}" if index < 7 else "",
                16 * G,
                FIBRE_CHANNEL,
                up=index < 7,
                terms=[(backup, 1 / 6, True), (catalogue, 0.5 / 6, True)] if index < 7 else [],
            )
            for index in range(1, 25)
        ]
        firewall = self.box("dep-fw-1", "Depot", "fw", processors=2)
        firewall.ports = [
            Port(index, f"p{index}", "Management" if index == 1 else "", G, up=index == 1) for index in range(1, 9)
        ]
        firewall.ports[0].terms = [(self.source("steady", 2 * M, 2 * M), 1.0, True)]
        power = self.box("dep-ups-1", "Depot", "ups")
        power.sensors += [("Battery temperature", 27.0, 1.0), ("Output load", 43.0, 6.0)]
        power.ports = [
            Port(1, "lan", "Management", 10 * M, wide=False, terms=[(self.source("steady", 20_000, 30_000), 1.0, True)])
        ]


def build() -> Scenario:
    """The demonstration's network, the same in every run."""
    return Builder().build()
