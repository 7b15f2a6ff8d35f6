"""Resources: what an alarm, a rule, a log entry, a mark on a chart or a message is about.

Each kind is registered by the app that it belongs to; whoever shows or sends something about a resource asks this registry.
"""

from collections.abc import Callable, Collection
from dataclasses import dataclass

from lumtar.domain.operation.models import Process

LUMTAR = "lumtar"
"""Lumtar itself: a resource without a row of its own, whose number is 0."""
COLLECTOR = "collector"


@dataclass(frozen=True, slots=True)
class Named:
    """What a resource is called, where it is, and the device and interface that it belongs to, as far as it does.

    ``is_in_use`` is false if it was retired: nothing is raised about it then.
    """

    label: str
    site: str = ""
    device: int | None = None
    interface: int | None = None
    is_in_use: bool = True


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of resource.

    Attributes
    ----------
    name : as it is stored
    words : what one of them is called
    page : the address of its page; ``{id}`` is its number, ``{device}`` that of its device
    named : those of some numbers that are there
    """

    name: str
    words: str
    page: str
    named: Callable[[Collection[int]], dict[int, Named]]


KINDS: dict[str, Kind] = {}


def register(kind: Kind) -> Kind:
    """Make a kind of resource known."""
    KINDS[kind.name] = kind
    return kind


def page(kind: str, number: int, device: int | None) -> str:
    """The address of a resource's page in the web interface; empty if it has none."""
    known = KINDS.get(kind)
    return known.page.format(id=number, device=device) if known else ""


def named(wanted: Collection[tuple[str, int]]) -> dict[tuple[str, int], Named]:
    """What some resources are called, by kind and number; one query a kind. What is not there any more is left out."""
    labelled: dict[tuple[str, int], Named] = {}
    for kind in {kind for kind, _ in wanted}:
        if known := KINDS.get(kind):
            names = known.named({number for each, number in wanted if each == kind})
            labelled |= {(kind, number): each for number, each in names.items()}
    return labelled


register(Kind(LUMTAR, "Lumtar itself", "/setup/services", lambda ids: {each: Named("Lumtar itself") for each in ids}))
register(
    Kind(
        COLLECTOR,
        "collector",
        "/setup/services",
        lambda ids: {pk: Named(name) for pk, name in Process.objects.filter(pk__in=ids).values_list("pk", "name")},
    )
)
