"""Devices, ports, components and groups as a set-up names them: by what they are called, since numbers differ from one place to the next."""

from collections.abc import Callable, Collection, Iterable, Mapping
from typing import Any

from lumtar.core.refusal import Refusal
from lumtar.domain.flows.models import Stranger, WatchedTraffic
from lumtar.domain.inventory.models import Component, Device, Group, Interface
from lumtar.domain.paths.models import Path
from lumtar.domain.setup.section import Plain

DEVICES = Device.objects.filter(retired_at=None)
PORTS = Interface.objects.filter(gone_at=None, device__retired_at=None)
COMPONENTS = Component.objects.filter(gone_at=None, device__retired_at=None)

ROWS: dict[str, tuple[Any, dict[str, str]]] = {
    "device": (DEVICES, {"device": "name"}),
    "interface": (PORTS, {"device": "device__name", "port": "name"}),
    "component": (COMPONENTS, {"device": "device__name", "part": "kind", "component": "name"}),
    "link": (PORTS, {"device": "device__name", "port": "name"}),
    "bridge": (DEVICES, {"device": "name"}),
    "group": (Group.objects, {"group": "name"}),
    "flow_port": (PORTS, {"device": "device__name", "port": "name"}),
    "stranger": (Stranger.objects, {"list": "known__name", "stranger": "pk"}),
    "path": (Path.objects, {"path": "name"}),
    "traffic": (WatchedTraffic.objects, {"traffic": "name"}),
}
"""By kind of subject: the rows that there are, and the fields by which a set-up names one of them."""


def named(kind: str, numbers: Collection[int]) -> dict[int, Plain]:
    """How a set-up names some subjects; those that are gone are left out."""
    rows, fields = ROWS[kind]
    found = rows.filter(pk__in=numbers).values_list("pk", *fields.values())
    return {pk: dict(zip(fields, values, strict=True)) for pk, *values in found}


def listed(kind: str, rows: Iterable[Any]) -> list[Plain]:
    """How a set-up names some rows, in the order of their names."""
    return sorted(named(kind, [row.pk for row in rows]).values(), key=lambda of: tuple(of.values()))


def number(kind: str, given: Any) -> int:
    """The number of the subject that a set-up names.

    Raises
    ------
    Refusal
        if it names none, or several
    """
    rows, fields = ROWS[kind]
    if not isinstance(given, Mapping) or set(given) != set(fields):
        raise Refusal(f"A {'port' if kind == 'interface' else kind} is named by {' and '.join(fields)}.")
    found = list(rows.filter(**{fields[key]: value for key, value in given.items()}).values_list("pk", flat=True)[:2])
    words = " ".join(str(value) for value in given.values())
    if not found:
        raise Refusal(f"There is no {' '.join(fields)} {words!r} here; add the devices first.")
    if len(found) > 1:
        raise Refusal(f"There are several called {words!r}; give them names of their own first.")
    return int(found[0])


def differences(
    before: Mapping[int, Any],
    wanted: Mapping[int, Any],
    keep: Callable[[int, Any], object],
    end: Callable[[int], object],
) -> None:
    """Keep what is new or another one, and end what is not wanted any more."""
    for key, value in wanted.items():
        if before.get(key) != value or key not in before:
            keep(key, value)
    for key in before.keys() - wanted.keys():
        end(key)
