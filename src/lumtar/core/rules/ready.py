"""Rules that most networks want, with the reason for each recommended value."""

from dataclasses import dataclass

from lumtar.core.alarms.severity import Severity
from lumtar.core.rules.rule import Direction, Hold, Level, Rule

AT_ONCE = Hold()


@dataclass(frozen=True, slots=True)
class Ready:
    """A recommended rule.

    Attributes
    ----------
    why : what it is good for, and why it looks at what it looks at
    scope : a condition over ports; empty is all subjects
    reasons : of each level, why its limit is where it is
    """

    name: str
    why: str
    measure: str
    levels: tuple[Level, ...]
    reasons: tuple[str, ...]
    statistic: str = "value"
    window_s: int = 0
    hold: Hold = AT_ONCE
    scope: str = ""
    direction: Direction = Direction.ABOVE

    def rule(self, key: int = 0) -> Rule:
        """It as the evaluator takes it."""
        return Rule(key, self.measure, self.levels, self.hold, self.direction, self.statistic, window_s=self.window_s)


MINOR, MAJOR, WARNING, CRITICAL = Severity.MINOR, Severity.MAJOR, Severity.WARNING, Severity.CRITICAL
LINKS = "role is (uplink, wan, trunk)"
READY = (
    Ready(
        "Load of uplinks, WAN and trunks",
        "The mean over ten minutes, so that a short peak calls nobody; access ports are left out, since one user may fill them.",
        "load",
        (Level(MINOR, 80, 70), Level(MAJOR, 90, 80)),
        ("queues begin to fill at peaks within the minute", "loss starts on most links"),
        statistic="mean",
        window_s=600,
        scope=LINKS,
    ),
    Ready(
        "Errors and discards",
        "Per million packets, so that busy and idle ports are measured alike.",
        "error_share",
        (Level(MINOR, 100, 50), Level(MAJOR, 1000, 500)),
        ("transfers begin to slow down (1 in 10,000)", "calls and transfers suffer (1 in 1,000)"),
        statistic="mean",
        window_s=900,
    ),
    Ready(
        "Links that are down",
        "Only uplinks, WAN and trunks: access ports go up and down with those who use them.",
        "down",
        (Level(MAJOR, 50, 50),),
        ("not up in two readings in a row",),
        hold=Hold(times=2, of=2),
        scope=LINKS,
    ),
    Ready(
        "Speed lowered",
        "Only links: what users plug in saves power by slowing down. Against the fastest speed of 30 days; after that the lower one counts as wanted.",
        "speed_kept",
        (Level(MINOR, 99, 99),),
        ("a bad cable, a worn transceiver or a wrong setting: it carries less than it was built for",),
        hold=Hold(times=2, of=2),
        scope=LINKS,
        direction=Direction.BELOW,
    ),
    Ready(
        "Half duplex",
        "Only links. It is what a port falls back to when the other end does not negotiate; every second packet may then collide.",
        "half_duplex",
        (Level(MINOR, 0.5, 0.5),),
        ("no link of a network is built for it",),
        scope=LINKS,
    ),
    Ready(
        "Interfaces gone",
        "A module or a member of a stack that is not listed any more: its ports are not down, they are not there. Access ports are left out.",
        "gone",
        (Level(MAJOR, 0.5, 0.5),),
        ("one is enough; it ends when they are listed again, or after a day",),
    ),
    Ready(
        "Neighbour lost or gone silent",
        "Only while the port is up and both devices answer: what is down or silent has an alarm of its own. A neighbour counts as expected once it was there for an hour, or as frozen.",
        "link_lost",
        (Level(MINOR, 0.5, 0.5),),
        ("two looks in a row; the cable may lead elsewhere, or something was put in between",),
        hold=Hold(times=2, of=2),
    ),
    Ready(
        "Neighbour changed",
        "Two cables that changed places, or a device that was replaced. It ends when somebody accepts what is there, or by itself after a day unless the expected topology is frozen.",
        "link_changed",
        (Level(MAJOR, 0.5, 0.5),),
        ("traffic takes another way than planned",),
    ),
    Ready(
        "Unexpected neighbour on an access port",
        "Network equipment where only users are meant to be plugged in.",
        "link_unexpected",
        (Level(MINOR, 0.5, 0.5),),
        ("it may bridge what is meant to be apart",),
    ),
    Ready(
        "One-way link",
        "One end hears the other and is not heard: a broken fibre, or a port that only receives.",
        "link_one_way",
        (Level(MAJOR, 0.5, 0.5),),
        ("spanning tree and routing may take it for a way",),
        hold=Hold(times=2, of=2),
    ),
    Ready(
        "Redundancy lost",
        "Links that are down without which devices have one way left. The number says how many.",
        "link_alone",
        (Level(MINOR, 0.5, 0.5), Level(MAJOR, 10.5, 9.5)),
        ("the next fault cuts it off", "the next fault cuts off more than ten"),
        hold=Hold(times=2, of=2),
    ),
    Ready(
        "Member of an aggregate down",
        "The aggregate stays up and carries less.",
        "link_members_down",
        (Level(MINOR, 1, 1), Level(MAJOR, 60, 60)),
        ("any of them", "most of them"),
        hold=Hold(times=2, of=2),
    ),
    Ready(
        "Ends of different speed",
        "What both ends state.",
        "link_slower_end",
        (Level(WARNING, 0.5, 0.5),),
        ("one of them has a wrong setting, or something is in between",),
    ),
    Ready(
        "Duplex mismatch",
        "One end negotiates, the other one does not: late collisions and slow transfers follow.",
        "link_duplex",
        (Level(MAJOR, 0.5, 0.5),),
        ("every second packet may collide",),
    ),
    Ready(
        "MTU mismatch",
        "Large packets vanish without a word.",
        "link_mtu",
        (Level(MINOR, 0.5, 0.5),),
        ("small packets pass, so that it looks well",),
    ),
    Ready(
        "VLANs at one end only",
        "What both ends of a link between bridges carry.",
        "link_vlans",
        (Level(MINOR, 0.5, 0.5),),
        ("one is enough: who is in it is cut off",),
    ),
    Ready(
        "Another spanning-tree root",
        "It changes only when the root failed, or when a bridge with a better priority was plugged in.",
        "bridge_root_age",
        (Level(MAJOR, 3600, 3600),),
        ("within the last hour",),
        direction=Direction.BELOW,
    ),
    Ready(
        "Another spanning-tree role",
        "Of ports between bridges: traffic takes another way.",
        "link_role_age",
        (Level(WARNING, 1800, 1800),),
        ("within the last half hour",),
        direction=Direction.BELOW,
    ),
    Ready(
        "Signs of a loop: topology changes",
        "Each change makes all bridges forget their forwarding tables.",
        "bridge_changes",
        (Level(MINOR, 30, 20), Level(MAJOR, 300, 200)),
        ("a port that flaps, or a loop", "hardly anything but a loop"),
    ),
    Ready(
        "Signs of a loop: stations that move",
        "Stations that came from another port within an hour. People who change desks are a few; in a loop it is everybody.",
        "bridge_moves",
        (Level(MINOR, 20, 10),),
        ("more than people move",),
    ),
    Ready(
        "Addresses that move",
        "Addresses that belong to another MAC address than before: two devices with one address, or somebody who answers for others.",
        "bridge_rebound",
        (Level(WARNING, 3, 2),),
        ("a few an hour are people who come and go",),
    ),
    Ready(
        "Device restarted",
        "By its own clock, so that a restart between two polls is seen as well.",
        "uptime",
        (Level(WARNING, 600, 600),),
        ("less than ten minutes ago: time enough to see whether it stays up",),
        direction=Direction.BELOW,
    ),
    Ready(
        "Readings missing",
        "A device that answers but does not give this port's counters is not seen otherwise.",
        "load",
        (Level(MINOR, 50, 20),),
        ("every other reading of half an hour is missing",),
        statistic="missing",
        window_s=1800,
        scope=LINKS,
    ),
    Ready(
        "Round-trip time",
        "To the device itself over a quarter of an hour. A device answers SNMP when it has time, so this is a hint, not a measurement.",
        "round_trip",
        (Level(WARNING, 300, 200),),
        ("twice what a distant site needs",),
        statistic="percentile95",
        window_s=900,
    ),
    Ready(
        "Processor load",
        "The mean over a quarter of an hour: routing and saving a configuration fill a processor for seconds.",
        "processor",
        (Level(MINOR, 85, 75), Level(MAJOR, 95, 85)),
        ("no room for a routing change", "polls and routing begin to suffer"),
        statistic="mean",
        window_s=900,
    ),
    Ready(
        "Memory in use",
        "The minimum of half an hour: what is given back in between was not short.",
        "memory",
        (Level(MINOR, 90, 85), Level(MAJOR, 97, 93)),
        ("time to look for a leak", "an update or a routing table will not fit"),
        statistic="minimum",
        window_s=1800,
    ),
    Ready(
        "Storage filling up",
        "What is in use now; it rarely goes down by itself.",
        "storage",
        (Level(MINOR, 85, 80), Level(MAJOR, 95, 92)),
        ("days to weeks are left", "logs and updates will fail"),
    ),
    Ready(
        "Temperature",
        "Of every sensor. Sensors sit at chips and at air inlets: exempt what is made to run hotter.",
        "temperature",
        (Level(MINOR, 60, 55), Level(MAJOR, 75, 70)),
        ("a fan or the room's cooling has a fault", "equipment switches itself off not far above"),
        statistic="minimum",
        window_s=600,
    ),
    Ready(
        "PoE budget",
        "The share of what the power supplies give that devices draw; a phone or access point that is plugged in beyond it stays dark.",
        "poe",
        (Level(MINOR, 80, 75), Level(MAJOR, 95, 90)),
        ("no room for a few more access points", "the next device gets no power"),
        statistic="mean",
        window_s=600,
    ),
    Ready(
        "Fans and power supplies",
        "Any component that states a fault.",
        "faulty",
        (Level(MAJOR, 0.5, 0.5),),
        ("the spare one carries the load alone",),
    ),
    Ready(
        "Strangers",
        "An address within a list of known ones that the list does not know; told of one by one, until somebody accepts it.",
        "stranger_seen",
        (Level(MINOR, 0.5, 0.5),),
        ("somebody brought something along, or an address plan is not up to date",),
    ),
    Ready(
        "Scans",
        "Senders that ask many addresses within a minute; servers that answer many are left out. Exempt the ports of what looks for devices.",
        "flows_fan_out",
        (Level(MINOR, 150, 100), Level(MAJOR, 1000, 500)),
        ("more than any browser reaches", "a whole network is gone through"),
    ),
    Ready(
        "Paths that take long",
        "95th percentile of round trips, in the mean over five minutes.",
        "path_delay_95",
        (Level(MINOR, 150, 120), Level(MAJOR, 300, 250), Level(CRITICAL, 1000, 800)),
        ("calls get awkward (ITU-T G.114)", "every click waits", "hardly anything can be used"),
        statistic="mean",
        window_s=300,
    ),
    Ready(
        "Probes lost",
        "In the mean over five minutes.",
        "path_loss",
        (Level(MINOR, 1, 0.5), Level(MAJOR, 5, 3), Level(CRITICAL, 99, 90)),
        ("calls crackle, and TCP slows down", "calls break off", "nothing comes through"),
        statistic="mean",
        window_s=300,
    ),
    Ready(
        "Servers that answer slowly",
        "Of watched traffic, in the mean over five minutes; without the time that the network takes. Exporters have to tell of response times.",
        "traffic_server_ms",
        (Level(MINOR, 500, 400), Level(MAJOR, 2000, 1500), Level(CRITICAL, 10_000, 8_000)),
        ("people notice that they wait", "people do something else meanwhile", "people give up"),
        statistic="mean",
        window_s=300,
    ),
    Ready(
        "Round trips that take long",
        "Of watched traffic, in the mean over five minutes: the network's part of every answer.",
        "traffic_network_ms",
        (Level(MINOR, 150, 120), Level(MAJOR, 400, 300), Level(CRITICAL, 1000, 800)),
        ("calls get awkward (ITU-T G.114)", "every click waits", "hardly anything can be used"),
        statistic="mean",
        window_s=300,
    ),
    Ready(
        "Flows that do not explain the counters",
        "Over ten minutes, of ports that carry something. A wrong sampling rate, lost records or an exporter that looks one way alone.",
        "flows_explained",
        (Level(MINOR, 90, 94), Level(MAJOR, 50, 60)),
        ("some records get lost", "who uses the link cannot be told"),
        hold=Hold(seconds=600),
        direction=Direction.BELOW,
    ),
)  # fmt: skip
