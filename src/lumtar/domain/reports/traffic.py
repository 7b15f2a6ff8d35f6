"""Traffic of an interface, a device, a site or the whole network: what flows say, what counters say, and what everything is called."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from django.utils import timezone

from lumtar.domain.flows import applications, names, queries
from lumtar.domain.flows.asking import Asked
from lumtar.domain.flows.halves import address_of
from lumtar.domain.flows.levels import CONVERSATIONS
from lumtar.domain.flows.models import Exporter
from lumtar.domain.flows.queries import Row, Traffic
from lumtar.domain.flows.store import GRACE, complete_until
from lumtar.domain.inventory.models import Device, Interface, Site
from lumtar.domain.reports import flow_shares
from lumtar.domain.topology.models import Binding, OwnAddress, Station

PROTOCOLS = {
    1: "ICMP",
    2: "IGMP",
    6: "TCP",
    17: "UDP",
    41: "IPv6 in IP",
    47: "GRE",
    50: "ESP",
    51: "AH",
    58: "ICMPv6",
    89: "OSPF",
    132: "SCTP",
}
DSCP = {
    0: "best effort",
    8: "CS1",
    10: "AF11",
    18: "AF21",
    26: "AF31",
    34: "AF41",
    40: "CS5",
    46: "EF",
    48: "CS6",
    56: "CS7",
}
ELSEWHERE = "elsewhere"


@dataclass(slots=True)
class Named:
    """What a row is called.

    Attributes
    ----------
    name : in words
    more : what else is known: the name behind an address
    filters : what narrows traffic to it; none of what was put together
    """

    name: str
    more: str
    filters: dict[str, str]


@dataclass(slots=True)
class Explained:
    """How much of the counted octets flows explain, and why not all.

    Attributes
    ----------
    octets, of : what flows and counters say of the same time
    since, until : that time: as far as its device has sent flows, and these are complete
    why : reasons for the rest, in sentences
    """

    octets: int
    of: int
    since: datetime
    until: datetime
    why: list[str]


def names_of(by: str, rows: Sequence[Row]) -> list[Named]:
    """What each row is called."""
    addresses = {text for row in rows for text in _addresses(by, row)}
    known = known_addresses(addresses)
    called = _Names(known, site_names(), applications.names())
    return [_named(by, row, called) for row in rows]


@dataclass(frozen=True, slots=True)
class _Names:
    """What addresses, sites and applications are called."""

    addresses: Mapping[str, str]
    sites: Mapping[int, str]
    applications: Mapping[int, str]

    def application(self, number: int) -> str:
        return self.applications.get(number, f"application {number}")


def complete(start: datetime, end: datetime) -> tuple[datetime, datetime]:
    """A time as far as its flows are complete; as it is, if none of it is."""
    until = complete_until(timezone.now())
    return start, min(end, until) if until > start else end


def site_names() -> dict[int, str]:
    """Sites by their number; what has none is elsewhere."""
    return {0: ELSEWHERE} | dict(Site.objects.values_list("pk", "name"))


def _addresses(by: str, row: Row) -> list[str]:
    if by in ("sender", "receiver") and not row.key[2]:
        return [address_of(row.key[0], row.key[1])]
    if by == "conversation" and not row.key[7]:
        return [address_of(row.key[0], row.key[1]), address_of(row.key[2], row.key[3])]
    return []


def known_addresses(addresses: Iterable[str]) -> dict[str, str]:
    """Devices, the ports of stations, and names by DNS, by address."""
    wanted = list(addresses)
    found = names.named(wanted)
    bound = dict(Binding.objects.filter(address__in=wanted, gone_at=None).values_list("address", "mac"))
    places = {
        mac: f"{device} {label}"
        for mac, device, label in Station.objects.filter(mac__in=bound.values(), gone_at=None).values_list(
            "mac", "device__name", "interface__label"
        )
    }
    found |= {address: places[mac] for address, mac in bound.items() if mac in places}
    found |= dict(OwnAddress.objects.filter(address__in=wanted).values_list("address", "device__name"))
    return found | dict(Device.objects.filter(address__in=wanted, retired_at=None).values_list("address", "name"))


def service_name(protocol: int, port: int) -> str:
    """A service by its protocol and port."""
    name = PROTOCOLS.get(protocol, f"protocol {protocol}")
    return f"{name.lower()} {port}" if port else name


def _named(by: str, row: Row, names: _Names) -> Named:
    key = row.key
    if by == "application":
        return Named(names.application(key[0]), "", {"application": str(key[0])})
    if by == "site":
        ends = [names.sites.get(each, ELSEWHERE) for each in key]
        return Named(f"{ends[0]} → {ends[1]}", "", {"src_site": str(key[0]), "dst_site": str(key[1])})
    if by == "protocol":
        return Named(PROTOCOLS.get(key[0], f"protocol {key[0]}"), "", {"protocol": str(key[0])})
    if by == "DSCP":
        return Named(DSCP.get(key[0], f"DSCP {key[0]}"), f"{key[0]}" if key[0] in DSCP else "", {"dscp": str(key[0])})
    if row.key[-1]:
        return Named("smaller ones together", "", {})
    if by == "port":
        return Named(service_name(key[0], key[1]), "", {"protocol": str(key[0]), "port": str(key[1])})
    if by in ("sender", "receiver"):
        text = address_of(key[0], key[1])
        return Named(text, names.addresses.get(text, ""), {by: text})
    source, goal = address_of(key[0], key[1]), address_of(key[2], key[3])
    more = f"{names.application(key[6])} {service_name(key[4], key[5])}"
    called = [f"{text} {names.addresses[text]}" if text in names.addresses else text for text in (source, goal)]
    return Named(
        f"{called[0]} → {called[1]}",
        more.strip(),
        {"sender": source, "receiver": goal, "protocol": str(key[4]), "port": str(key[5])},
    )


def explained(asked: Asked, traffic: Traffic) -> tuple[Explained | None, np.ndarray | None]:
    """What the counter of an interface says: octets of each step, and how much of it flows explain; None of anything else."""
    if asked.interface is None or asked.way is None:
        return None, None
    counted = queries.counted(asked.interface, traffic.start, traffic.end, traffic.step_s)[:, asked.way]
    device = Interface.objects.values_list("device_id", flat=True).get(pk=asked.interface)
    exporters = list(Exporter.objects.filter(device=device))
    begun = min((each.first_at for each in exporters), default=traffic.start)
    heard = max(traffic.start, begun)
    # Of an exporter that was not heard for long, hours say little or nothing.
    step = 60 if CONVERSATIONS.is_fine(heard, traffic.end) else 3600
    # The first step may have begun before the exporter was heard, and the last one is not complete.
    since = _next(heard, step)
    until = max(since, min(traffic.end, timezone.now() - GRACE))
    flows = queries.course(asked, since, until, step)
    known = queries.counted(asked.interface, since, until, step)[: len(flows), asked.way]
    both = np.flatnonzero(~np.isnan(known))
    if not len(both):
        return Explained(0, 0, since, since, _why(exporters, 0, 0)), counted
    octets, of = int(flows[both].sum()), int(known[both].sum())
    first, last = (since + timedelta(seconds=step * int(place)) for place in (both[0], both[-1] + 1))
    return Explained(octets, of, first, last, _why(exporters, octets, of) + _not_received(first, octets, of)), counted


def _next(at: datetime, step_s: int) -> datetime:
    """The next whole step from a time on."""
    return datetime.fromtimestamp(-(-at.timestamp() // step_s) * step_s, at.tzinfo)


def _why(exporters: Sequence[Exporter], octets: int, of: int) -> list[str]:
    """Why flows do not explain everything, as far as it is known."""
    if not exporters:
        return ["its device sends no flow records"]
    reasons = []
    latest = max(each.last_at for each in exporters)
    if timezone.now() - latest > timedelta(minutes=5):
        reasons.append("its device has sent no flow records for some minutes")
    if any(each.lost for each in exporters):
        reasons.append("records were lost on their way")
    if any(each.no_template for each in exporters):
        reasons.append("templates were missing")
    if any(rate > 1 for each in exporters for rate in each.sampling.values()):
        reasons.append("packets are sampled")
    if of and octets < 0.98 * of:
        reasons.append("what is not IP, or not of version 4 in NetFlow 5, has no records")
    return reasons


def _not_received(since: datetime, octets: int, of: int) -> list[str]:
    """That flows were not received for a part of the time, as far as it is known."""
    begun = flow_shares.received_since(timezone.now())
    if begun is None or begun <= since or not of or octets >= 0.98 * of:
        return []
    return [f"the flow receiver was started at {begun:%H:%M} UTC, and what was sent while it did not run is missing"]
