"""Measures of watched traffic, and of ports that flows are told of; from what exporters told of the last complete minute."""

from dataclasses import dataclass
from functools import partial
from operator import attrgetter
from typing import Any

from lumtar.core.measures.rates import Floats
from lumtar.core.measures.registry import Measure, register

TRAFFIC, FLOW_PORT, STRANGER = "traffic", "flow_port", "stranger"


@dataclass(frozen=True, slots=True)
class Watched:
    """n kinds of watched traffic in a step of time. NaN is not known.

    Attributes
    ----------
    rate : bits per second
    share : of the capacity of the port that it is at, per cent; NaN if it is not at a port
    packets : per second
    senders, receivers : addresses that were kept one by one
    new_applications, new_senders : that were seen first within the last hour
    network_ms, server_ms : mean response times, of the network apart from the server, milliseconds
    facts : of each, what a sentence about each of its values tells
    """

    rate: Floats
    share: Floats
    packets: Floats
    senders: Floats
    receivers: Floats
    new_applications: Floats
    new_senders: Floats
    network_ms: Floats
    server_ms: Floats
    facts: tuple[dict[str, Any], ...] = ()


@dataclass(frozen=True, slots=True)
class FlowPorts:
    """n ports of exporters.

    Attributes
    ----------
    explained : of the octets that the port counted the share that flows explain, per cent; of both ways the lower one
    fan_out : the most receivers that one sender reached by way of it within a minute
    ports_tried : the most ports that one sender tried at one receiver within a minute
    """

    explained: Floats
    fan_out: Floats
    ports_tried: Floats
    facts: tuple[dict[str, Any], ...] = ()


@dataclass(frozen=True, slots=True)
class Strangers:
    """n addresses that are not known to a list, and that nobody accepted.

    Attributes
    ----------
    seen : 1 while it was seen within the last hour
    octets : that it exchanged at the port where it was seen first
    facts : of each, what a sentence about each of its values tells
    """

    seen: Floats
    octets: Floats
    facts: tuple[dict[str, Any], ...] = ()


def _facts(frame: Any, n: int, name: str) -> dict[str, Any]:
    known: dict[str, Any] = frame.facts[n].get(name, {}) if frame.facts else {}
    return known


for kind, prefix, name, words, unit, alarm in (
    (TRAFFIC, "traffic", "rate", "Rate", "bit/s", "traffic-rate"),
    (TRAFFIC, "traffic", "share", "Share of the port's capacity", "%", "traffic-share"),
    (TRAFFIC, "traffic", "packets", "Packets a second", "", "traffic-packets"),
    (TRAFFIC, "traffic", "senders", "Senders", "", "traffic-senders"),
    (TRAFFIC, "traffic", "receivers", "Receivers", "", "traffic-receivers"),
    (TRAFFIC, "traffic", "new_applications", "Applications that are new", "", "new-application"),
    (TRAFFIC, "traffic", "new_senders", "Senders that are new", "", "new-sender"),
    (TRAFFIC, "traffic", "network_ms", "Round trip of the network", "ms", "traffic-network-time"),
    (TRAFFIC, "traffic", "server_ms", "Response time of the server", "ms", "traffic-server-time"),
    (FLOW_PORT, "flows", "explained", "Counted octets that flows explain", "%", "flows-unexplained"),
    (FLOW_PORT, "flows", "fan_out", "Receivers of one sender in a minute", "", "fan-out"),
    (FLOW_PORT, "flows", "ports_tried", "Ports that one sender tries at one receiver in a minute", "", "port-scan"),
    (STRANGER, "stranger", "seen", "Stranger seen", "", "stranger"),
    (STRANGER, "stranger", "octets", "Octets of a stranger", "", "stranger-volume"),
):
    register(
        Measure(f"{prefix}_{name}", words, unit, kind, attrgetter(name), alarm=alarm, facts=partial(_facts, name=name))
    )
