"""What is asked of flows: which traffic, and which of it; as conditions over what is stored."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from lumtar.core.flows.lookups import PrefixRanges
from lumtar.core.flows.records import MAPPED, address_numbers
from lumtar.core.refusal import Refusal
from lumtar.domain.flows import prefix_tables
from lumtar.domain.flows.halves import signed
from lumtar.domain.inventory.groups import in_group
from lumtar.domain.inventory.models import Group, Site

IN, OUT = 0, 1
WAYS = {"in": IN, "out": OUT}
NUMBERS = ("interface", "device", "group", "application", "port", "protocol", "dscp", "src_site", "dst_site")
TEXTS = ("sender", "receiver", "address")
FAR = {name: by for by, name in prefix_tables.FILTERS.items()}
MOST_RANGES = 2_000


@dataclass(frozen=True, slots=True)
class Asked:
    """Which conversations: at an interface, at a device, at the ports of a group, with a site, or all of them; and which of these.

    Attributes
    ----------
    way : IN or OUT at the interface; None is both
    sender, receiver, address : an address; ``address`` is either of the two
    within : for each of these one of the two ends is in it
    """

    interface: int | None = None
    device: int | None = None
    group: int | None = None
    site: int | None = None
    way: int | None = None
    application: int | None = None
    sender: str = ""
    receiver: str = ""
    address: str = ""
    port: int | None = None
    protocol: int | None = None
    dscp: int | None = None
    src_site: int | None = None
    dst_site: int | None = None
    within: tuple[PrefixRanges, ...] = ()


def asked_of(filters: Mapping[str, str]) -> Asked:
    """A question from filters by their names, as the address of a screen has them.

    Raises
    ------
    Refusal
    """
    values: dict[str, Any] = {"within": ()}
    for name, text in filters.items():
        if name in NUMBERS:
            try:
                values[name] = int(text)
            except ValueError as error:
                raise Refusal(f"{name} is a number, not {str(text)[:40]}.", name) from error
        elif name in TEXTS:
            values[name] = str(text)
        elif name == "site":
            values["site"] = Site.objects.filter(name=text).values_list("pk", flat=True).first()
            if values["site"] is None:
                raise Refusal(f"There is no site {str(text)[:60]}.", "site")
        elif name == "way":
            if text not in WAYS:
                raise Refusal("The way is in or out.", "way")
            values["way"] = WAYS[text]
        elif by := FAR.get(name):
            values["within"] = (*values["within"], prefix_tables.ranges(by, str(text)))
        else:
            raise Refusal(f"Traffic has no filter {str(name)[:40]}.", "filters")
    return Asked(**values)


def ports_of_group(group: int, values: dict[str, Any]) -> str:
    """A query for the ports of a group.

    Raises
    ------
    Refusal
    """
    try:
        return in_group(group, values)
    except Group.DoesNotExist as error:
        raise Refusal("There is no such group.", "group") from error


def narrowed(asked: Asked, values: dict[str, Any]) -> list[str]:
    """The conditions of the filters of a question, whose values are added.

    Raises
    ------
    Refusal
    """
    where = []
    for name, column in (
        ("application", "application"), ("port", "port"), ("protocol", "protocol"), ("dscp", "dscp"),
        ("src_site", "src_site"), ("dst_site", "dst_site"),
    ):  # fmt: skip
        if (value := getattr(asked, name)) is not None:
            where.append(f"{column} = %({name})s")
            values[name] = value
    for name, ends in (("sender", ("src",)), ("receiver", ("dst",)), ("address", ("src", "dst"))):
        if not (halves := address_halves(asked, name)):
            continue
        values[f"{name}_hi"], values[f"{name}_lo"] = halves
        either = " OR ".join(f"({end}_hi = %({name}_hi)s AND {end}_lo = %({name}_lo)s)" for end in ends)
        where.append(f"({either})")
    where += [_within(each, f"w{place}", values) for place, each in enumerate(asked.within)]
    return where


def address_halves(asked: Asked, name: str) -> tuple[int, int] | None:
    """The address of one of the filters, as it is stored; None if there is none.

    Raises
    ------
    Refusal
    """
    if not (text := getattr(asked, name).strip()):
        return None
    try:
        hi, lo = address_numbers(text)
    except ValueError as error:
        raise Refusal(f"{text[:60]} is not an address.", name) from error
    return signed(hi), signed(lo)


def _within(ranges: PrefixRanges, prefix: str, values: dict[str, Any]) -> str:
    """That one end is in any of some ranges."""
    if len(ranges) > MOST_RANGES:
        raise Refusal(f"That is {len(ranges):,} ranges of addresses; traffic can be narrowed to {MOST_RANGES} at most.")
    four = [(MAPPED | first, MAPPED | last) for first, last in ranges.four]
    # Halves of addresses are kept with a sign: a range across its change is two.
    six = [
        (signed(first), signed(last))
        for begin, end in ranges.six
        for first, last in ((begin, min(end, 2**63 - 1)), (max(begin, 2**63), end))
        if first <= last
    ]
    for name, spans in (("four", four), ("six", six)):
        values[f"{prefix}_{name}_first"] = [first for first, _ in spans]
        values[f"{prefix}_{name}_last"] = [last for _, last in spans]
    inside = [
        f"EXISTS (SELECT 1 FROM unnest(%({prefix}_{name}_first)s::bigint[], %({prefix}_{name}_last)s::bigint[]) AS n (first, last)"
        f" WHERE {where} BETWEEN n.first AND n.last)"
        for end in ("src", "dst")
        for name, where in (("four", f"{end}_hi = 0 AND {end}_lo"), ("six", f"{end}_hi <> 0 AND {end}_hi"))
    ]
    return f"({' OR '.join(inside)})"


def conditions(asked: Asked, values: dict[str, Any]) -> list[str]:
    """The conditions of a question over stored totals, whose values are added.

    Raises
    ------
    Refusal
    """
    where = narrowed(asked, values) + _scope(asked, values)
    if asked.sender or asked.receiver or asked.address or asked.within:
        # What was put together has no addresses, which is not the address of zeros.
        where.append("NOT is_rest")
    return where


def _scope(asked: Asked, values: dict[str, Any]) -> list[str]:
    """Each conversation is counted once: at an interface what it carried, at a device what came in, elsewhere what is marked."""
    if asked.interface is not None:
        values["interface"] = asked.interface
        where = ["interface_id = %(interface)s"]
        if asked.way is not None:
            values["way"] = asked.way
            where.append("way = %(way)s")
        return where
    if asked.device is not None:
        values["device"] = asked.device
        return [f"interface_id IN (SELECT id FROM inventory_interface WHERE device_id = %(device)s) AND way = {IN}"]
    if asked.group is not None:
        # What came in at any of its ports.
        return [f"interface_id IN (SELECT id FROM ({ports_of_group(asked.group, values)}) g) AND way = {IN}"]
    where = ["is_counted"]
    if asked.site is not None:
        values["site"] = asked.site
        where.append("(src_site = %(site)s OR dst_site = %(site)s)")
    return where
