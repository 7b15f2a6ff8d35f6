"""Response times that exporters tell of: how long the network took, and how long the server, added up by minute.

No standard element carries them, so which fields of an exporter do is declared. Where nothing is declared, a bidirectional flow (RFC 5103) of
TCP tells one time by itself: between its first packet and the first one of the other direction the handshake went to the server and back.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.declared import Part
from lumtar.core.flows.records import Records
from lumtar.core.flows.totals import groups

MINUTE = 60.0
LONGEST_US = 3.6e9
"""An hour: what is longer is not a response time but a counter that began anew, or a field that is something else."""


TIMES = np.dtype([("network", "f8"), ("server", "f8"), ("responses", "u4")])
"""Of a record: microseconds of the network and of the server, NaN if unknown, as means over so many answers."""
Times = NDArray[np.void]


def times_of(told: Mapping[Part, NDArray[Any]], number: int) -> Times:
    """Times of so many records, from what their fields tell in microseconds.

    A zero is nothing that was measured, as in records of other protocols; unless it is told of how many answers it is the sum.
    """
    made = np.zeros(number, TIMES)
    made["network"] = made["server"] = np.nan
    responses = told.get(Part.RESPONSES)
    made["responses"] = 1 if responses is None else np.minimum(responses, 2**32 - 1)
    least = np.zeros(number) if responses is None else np.where(responses > 0, -1.0, np.inf)
    means = {
        part: np.where(values > least, values / np.maximum(made["responses"], 1), np.nan)
        for part, values in told.items()
        if part is not Part.RESPONSES
    }
    sides = [means[part] for part in (Part.CLIENT_SIDE, Part.SERVER_SIDE) if part in means]
    if sides:
        # A side that was not measured leaves the other one, which is better than nothing.
        known = np.stack(sides)
        made["network"] = np.where(np.isnan(known).all(axis=0), np.nan, np.nansum(known, axis=0))
    if Part.NETWORK in means:
        made["network"] = np.where(np.isnan(means[Part.NETWORK]), made["network"], means[Part.NETWORK])
    if Part.SERVER in means:
        made["server"] = means[Part.SERVER]
    for name in ("network", "server"):
        with np.errstate(invalid="ignore"):
            made[name] = np.where(made[name] <= LONGEST_US, made[name], np.nan)
    return made


RESPONSES = np.dtype(
    [
        ("minute", "i8"), ("server_hi", "u8"), ("server_lo", "u8"), ("device", "u4"), ("application", "u4"), ("input", "u4"),
        ("output", "u4"), ("client_site", "u4"), ("server_site", "u4"), ("port", "u2"), ("protocol", "u1"), ("is_rest", "u1"),
        ("pad", "u4"), ("network_us", "u8"), ("network_number", "u8"), ("network_longest_us", "u8"), ("server_us", "u8"),
        ("server_number", "u8"), ("server_longest_us", "u8"),
    ]
)  # fmt: skip
"""Response times of a server within a minute, for the clients of a site, as an exporter told of them: the sum of the network's times, of how
many answers, and the longest; and the server's alike. ``input`` and ``output`` are the ports by which requests pass the exporter. Several that were
put together (``is_rest``) have no server and no port. What tells one from another comes first, so that it is compared as words of 64 bits."""
SUMS = ("network_us", "network_number", "network_longest_us", "server_us", "server_number", "server_longest_us")
Responses = NDArray[np.void]


@dataclass(frozen=True, slots=True)
class Seen:
    """What is known of the records that times are of: the port of each service, and by sender and receiver interfaces and sites."""

    ports: NDArray[np.uint16]
    applications: NDArray[np.uint32]
    interfaces: tuple[NDArray[np.uint32], NDArray[np.uint32]]
    sites: tuple[NDArray[np.uint32], NDArray[np.uint32]]


def responses_of(records: Records, times: Times, device: int, seen: Seen) -> Responses:
    """Times of records that have any, with their service; a time belongs to the minute in which its flow ended."""
    mine = np.flatnonzero(~(np.isnan(times["network"]) & np.isnan(times["server"])))
    rows, told, ports = records[mine], times[mine], seen.ports[mine]
    made = np.zeros(len(mine), RESPONSES)
    made["minute"] = np.ceil(rows["end"] / MINUTE) - 1
    made["device"], made["application"], made["port"] = device, seen.applications[mine], ports
    made["protocol"] = rows["protocol"]
    is_reply = (ports == rows["src_port"]) & (ports != rows["dst_port"])
    for half in ("hi", "lo"):
        made[f"server_{half}"] = np.where(is_reply, rows[f"src_{half}"], rows[f"dst_{half}"])
    (src_site, dst_site), (inner, outer) = (
        (pair[0][mine], pair[1][mine]) for pair in (seen.sites, seen.interfaces)
    )  # fmt: skip
    made["client_site"], made["server_site"] = np.where(is_reply, (dst_site, src_site), (src_site, dst_site))
    made["input"], made["output"] = np.where(is_reply, (outer, inner), (inner, outer))
    for name in ("network", "server"):
        known = ~np.isnan(told[name])
        each = np.where(known, told[name], 0.0)
        number = np.where(known, np.maximum(told["responses"], 1), 0)
        made[f"{name}_us"] = np.rint(each * number)
        made[f"{name}_number"], made[f"{name}_longest_us"] = number, np.rint(each)
    return made


def added(parts: Sequence[Responses]) -> Responses:
    """Rows that are alike in everything but their sums as one."""
    rows = np.concatenate([np.zeros(0, RESPONSES), *parts])
    if len(rows) < 2:
        return rows
    words = RESPONSES.itemsize // 8
    order, begins = groups(np.ascontiguousarray(rows).view("u8").reshape(len(rows), words)[:, : words - len(SUMS)])
    made = rows[order[begins]]
    for name in SUMS:
        join = np.maximum if name.endswith("longest_us") else np.add
        made[name] = join.reduceat(rows[name][order], begins)
    return made


def largest(rows: Responses, most: int) -> Responses:
    """The rows of most answers; the others without their servers, so that means over anything else stay exact."""
    if len(rows) <= most:
        return rows
    order = np.argsort(-(rows["network_number"] + rows["server_number"]).astype("i8"), kind="stable")
    rest = rows[order[most:]]
    for name in ("server_hi", "server_lo", "port"):
        rest[name] = 0
    rest["is_rest"] = 1
    return np.concatenate((rows[order[:most]], added([rest])))
