"""Totals of flow records: spread over the minutes that each lasted, added up by conversation, the smaller ones put together.

Nothing is lost on the way: what goes in comes out to the octet, whatever is spread or put together.
"""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from lumtar.core.flows.records import EGRESS, INGRESS, Records

MINUTE = 60.0
LONGEST_MINUTES = 60
"""A flow is told of after half an hour at most by any exporter; an earlier beginning is a clock that is wrong."""
IN, OUT = 0, 1
CONVERSATION = np.dtype(
    [
        ("minute", "i8"),
        ("src_hi", "u8"),
        ("src_lo", "u8"),
        ("dst_hi", "u8"),
        ("dst_lo", "u8"),
        ("interface", "u4"),
        ("application", "u4"),
        ("src_site", "u4"),
        ("dst_site", "u4"),
        ("port", "u2"),
        ("protocol", "u1"),
        ("tos", "u1"),
        ("way", "u1"),
        ("is_rest", "u1"),
        ("is_counted", "u1"),
        ("is_reply", "u1"),
        ("octets", "u8"),
        ("packets", "u8"),
        ("flows", "u8"),
    ]
)
"""What one address sent to another over an interface one way in a minute. ``minute`` counts from the epoch. Several conversations that were
put together (``is_rest``) have no addresses and no port. ``is_counted`` where it is counted once among all exporters, ``is_reply`` where the
service is at the sender's end. What tells one from another lies together and comes first, so that it is compared as words of 64 bits."""
ADDED = ("octets", "packets", "flows")
Conversations = NDArray[np.void]


def scaled(records: Records, usual: int = 0) -> Records:
    """Octets and packets as they were before sampling; ``usual`` is one in so many where the exporter does not say."""
    made = records.copy()
    rate = np.maximum(np.where(made["sampling"] > 0, made["sampling"], usual), 1).astype("u8")
    for name in ("octets", "packets"):
        most = np.uint64(2**63 - 1) // rate
        made[name] = np.minimum(made[name], most) * rate
    return made


def spread(records: Records) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.uint64], NDArray[np.uint64]]:
    """Octets and packets over the minutes that each flow lasted, evenly.

    Returns
    -------
    which record each part is of, its minute since the epoch, its octets and its packets; the parts of a record add up to it
    """
    last = np.floor(records["end"] / MINUTE).astype("i8")
    # A flow that ends with a minute is not in the next one.
    whole = (records["end"] % MINUTE == 0) & (records["end"] > records["start"])
    last = last - whole
    first = np.maximum(np.floor(records["start"] / MINUTE).astype("i8"), last - LONGEST_MINUTES + 1)
    first = np.minimum(first, last)
    number = last - first + 1
    which = np.repeat(np.arange(len(records)), number)
    place = np.arange(len(which)) - np.repeat(np.cumsum(number) - number, number)
    minute = first[which] + place
    begun = np.maximum(records["start"], first * MINUTE)
    lasted = np.maximum(records["end"] - begun, 0.0)
    upto = np.minimum((minute + 1) * MINUTE, records["end"][which]) - begun[which]
    share = np.where(lasted[which] > 0, upto / np.where(lasted > 0, lasted, 1.0)[which], 1.0)
    share = np.clip(share, 0.0, 1.0)
    is_last = place == number[which] - 1
    return (
        which,
        minute,
        _parts(records["octets"], which, share, is_last, place),
        _parts(records["packets"], which, share, is_last, place),
    )


def _parts(
    whole: NDArray[np.uint64],
    which: NDArray[np.int64],
    share: NDArray[np.float64],
    is_last: NDArray[np.bool_],
    place: NDArray[np.int64],
) -> NDArray[np.uint64]:
    """The share of each part, by differences of what has gone by so far: these add up exactly."""
    total = whole[which]
    gone = np.minimum(np.floor(total.astype("f8") * share), 2.0**63).astype("u8")
    gone = np.where(is_last, total, np.minimum(gone, total))
    before = np.concatenate((np.zeros(1, "u8"), gone[:-1]))
    before[place == 0] = 0
    # Beyond 53 bits a share may be rounded above the next one.
    return gone - np.minimum(before, gone) if len(gone) else gone


def service_port(
    src: NDArray[np.uint16], dst: NDArray[np.uint16], protocol: NDArray[np.uint8], known: NDArray[np.bool_]
) -> NDArray[np.uint16]:
    """The port of the service in a conversation: the one that is known as such, else the lower one.

    Parameters
    ----------
    known : by protocol and port (2 x 65,536, TCP and UDP), whether an application is defined by it
    """
    row = (protocol == 17).astype("i8")
    src_known, dst_known = known[row, src], known[row, dst]
    lower = np.minimum(src, dst)
    chosen = np.where(
        src_known == dst_known,
        np.where((src == 0) | (dst == 0), np.maximum(src, dst), lower),
        np.where(dst_known, dst, src),
    )
    has_ports = (protocol == 6) | (protocol == 17) | (protocol == 132)
    return np.where(has_ports, chosen, 0).astype("u2")


PASSED = np.dtype(
    [
        ("minute", "i8"),
        ("src_hi", "u8"),
        ("src_lo", "u8"),
        ("dst_hi", "u8"),
        ("dst_lo", "u8"),
        ("input", "u4"),
        ("output", "u4"),
        ("application", "u4"),
        ("port", "u2"),
        ("protocol", "u1"),
        ("tos", "u1"),
        ("src_site", "u4"),
        ("dst_site", "u4"),
        ("direction", "u1"),
        ("is_reply", "u1"),
        ("pad", "u2"),
        ("pad2", "u4"),
        ("octets", "u8"),
        ("packets", "u8"),
        ("flows", "u8"),
    ]
)
"""What passed an exporter within a minute: by which interfaces it came in and left, and whether the service is at the sender's end."""


def passed(
    records: Records,
    ports: NDArray[np.uint16],
    interfaces: tuple[NDArray[np.uint32], NDArray[np.uint32]],
    applications: NDArray[np.uint32],
    sites: tuple[NDArray[np.uint32], NDArray[np.uint32]],
) -> tuple[NDArray[np.void], NDArray[np.int64]]:
    """Records of one exporter by minute, and which record each row is of.

    Parameters
    ----------
    records : as they were before sampling
    ports : of the service
    interfaces : numbers of the inventory for ``input`` and ``output``; 0 where there is none
    sites : of the sender and of the receiver, 0 is elsewhere
    """
    which, minute, octets, packets = spread(records)
    made = np.zeros(len(which), PASSED)
    for name in ("src_hi", "src_lo", "dst_hi", "dst_lo", "protocol", "direction"):
        made[name] = records[name][which]
    made["minute"], made["octets"], made["packets"] = minute, octets, packets
    made["tos"] = (records["tos"] >> 2)[which]
    made["input"], made["output"] = interfaces[0][which], interfaces[1][which]
    made["application"], made["port"] = applications[which], ports[which]
    made["src_site"], made["dst_site"] = sites[0][which], sites[1][which]
    made["is_reply"] = ((ports == records["src_port"]) & (ports != records["dst_port"]))[which]
    # Of a flow that lasted for minutes the last one has it.
    made["flows"] = np.append(which[1:] != which[:-1], True)[: len(which)]
    return made, which


def at_interfaces(rows: NDArray[np.void], *, both_ways: bool = False) -> tuple[Conversations, NDArray[np.int64]]:
    """What passed, at the interface that it came in by, and at the one that it left by; and which row each is of.

    Parameters
    ----------
    both_ways : the exporter looks at its interfaces in both directions, and so tells of the same packets twice: those that it saw leave are
        not counted as coming in, and the other way round
    """
    found, whose = [], []
    for way, interface in ((IN, rows["input"]), (OUT, rows["output"])):
        other = rows["direction"] == (EGRESS if way == IN else INGRESS)
        mine = np.flatnonzero((interface > 0) & ~(both_ways & other))
        part = np.zeros(len(mine), CONVERSATION)
        for name in SAME:
            part[name] = rows[name][mine]
        part["interface"], part["way"] = interface[mine], way
        found.append(part)
        whose.append(mine)
    return np.concatenate(found), np.concatenate(whose)


SAME = tuple(name for name in CONVERSATION.names or () if name in (PASSED.names or ()))


def added(parts: NDArray[np.void]) -> NDArray[np.void]:
    """Rows that are alike in everything but their sums as one."""
    if len(parts) < 2:
        return parts
    order, begins = alike(parts)
    made = parts[order[begins]]
    for name in ADDED:
        made[name] = np.add.reduceat(parts[name][order], begins)
    return made


def alike(parts: NDArray[np.void]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """An order in which rows that differ in nothing but their sums stand together, and where each such group begins."""
    words = parts.dtype.itemsize // 8
    return groups(np.ascontiguousarray(parts).view("u8").reshape(len(parts), words)[:, : words - len(ADDED)])


def groups(keys: NDArray[np.uint64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """An order in which rows that are alike stand together, and where each such group begins.

    By a hash of 64 bits, which is looked at: should two different rows have the same, they are put in order by all their words.
    """
    hashed = _hash(keys)
    order = np.argsort(hashed, kind="stable")
    ordered = keys[order]
    is_new = np.append(True, (ordered[1:] != ordered[:-1]).any(axis=1))
    if int(is_new.sum()) != 1 + np.count_nonzero(np.diff(hashed[order])):
        order = np.lexsort(keys.T)
        ordered = keys[order]
        is_new = np.append(True, (ordered[1:] != ordered[:-1]).any(axis=1))
    return order, np.flatnonzero(is_new)


def _hash(keys: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """A number of 64 bits for each row; the same for the same words."""
    mixed = np.full(len(keys), 0x9E3779B97F4A7C15, "u8")
    with np.errstate(over="ignore"):
        for word in range(keys.shape[1]):
            mixed ^= keys[:, word]
            mixed *= np.uint64(0xBF58476D1CE4E5B9)
            mixed ^= mixed >> np.uint64(29)
    return mixed


def counted_once(parts: Conversations, device_of: Mapping[int, int]) -> Conversations:
    """Mark the conversations that are counted among all exporters: each at one device, where it came in.

    Several devices may tell of the same one: the one that tells of most octets is believed, then the one with the lower number. One that is
    only seen as leaving counts there.
    """
    made = parts.copy()
    if not len(made):
        return made
    whole = [made[name].astype("u8") for name in ("minute", "src_hi", "src_lo", "dst_hi", "dst_lo")]
    keys = np.stack([*whole, made["port"].astype("u8") << np.uint64(8) | made["protocol"]], axis=1)
    order, begins = groups(keys)
    group = np.repeat(np.arange(len(begins)), np.diff(np.append(begins, len(order))))
    whose = np.empty(len(made), "i8")
    whose[order] = group
    numbers, places = np.unique(made["interface"], return_inverse=True)
    device = np.array([device_of.get(int(each), 0) for each in numbers], "i8")[places]
    # For each group, device and way the octets; coming in goes before leaving.
    key = np.lexsort((made["way"], device, whose))
    begins = np.flatnonzero(
        np.append(
            True,
            (np.diff(whose[key]) != 0) | (np.diff(device[key]) != 0) | (np.diff(made["way"][key].astype("i8")) != 0),
        )
    )
    sums = np.add.reduceat(made["octets"][key], begins)
    head = key[begins]
    best = np.lexsort((device[head], np.iinfo("i8").max - sums.astype("i8"), made["way"][head], whose[head]))
    winners = best[np.append(True, np.diff(whose[head][best]) != 0)]
    wins = np.zeros(len(head), bool)
    wins[winners] = True
    made["is_counted"][key] = np.repeat(wins, np.diff(np.append(begins, len(key))))
    return made


def put_together(parts: Conversations) -> Conversations:
    """Conversations without their addresses and ports: what they are added up by when there are too many of them."""
    made = parts.copy()
    for name in ("src_hi", "src_lo", "dst_hi", "dst_lo", "port", "is_reply"):
        made[name] = 0
    made["is_rest"] = 1
    return made


def largest(parts: Conversations, most: int) -> Conversations:
    """The conversations with most octets of each minute, interface and way; the rest of them put together.

    Of the rest the application, both sites, protocol and DSCP are kept, so that what is added up by these stays exact.
    """
    if not len(parts):
        return parts
    rank = np.lexsort(
        (np.iinfo("i8").max - parts["octets"].astype("i8"), parts["way"], parts["interface"], parts["minute"])
    )
    ordered = parts[rank]
    is_new = np.append(
        True,
        (np.diff(ordered["minute"]) != 0)
        | (np.diff(ordered["interface"].astype("i8")) != 0)
        | (np.diff(ordered["way"].astype("i8")) != 0),
    )
    begins = np.flatnonzero(is_new)
    place = np.arange(len(ordered)) - np.repeat(begins, np.diff(np.append(begins, len(ordered))))
    is_rest = place >= most
    return np.concatenate((ordered[~is_rest], added(put_together(ordered[is_rest]))))
