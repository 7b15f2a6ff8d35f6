"""The sections of a set-up that are about traffic: applications, fields of records, known addresses, watched traffic."""

from collections.abc import Mapping

from lumtar.core.refusal import Refusal
from lumtar.domain.flows import applications, declared_fields, strangers, watched
from lumtar.domain.flows.models import AddressList, DeclaredField, OwnApplication, WatchedTraffic
from lumtar.domain.inventory.models import Device, Group, Interface, Site
from lumtar.domain.setup.section import Plain, Section


class OwnApplications(Section):
    """Applications that people define."""

    key = "applications"
    blank: Plain = {"protocols": [], "ports": "", "addresses": "", "told": [], "server_names": ""}

    def read(self) -> list[Plain]:
        """All of them."""
        rows = OwnApplication.objects.order_by("pk")
        return [{name: getattr(row, name) for name in ("name", *self.blank)} for row in rows]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a definition."""
        row = OwnApplication() if is_new else OwnApplication.objects.get(name=entry["name"])
        for name, value in entry.items():
            setattr(row, name, value)
        applications.keep(row, by)


class DeclaredFields(Section):
    """Fields of records that no standard defines."""

    key = "declared_fields"
    former_key = "response_fields"
    blank: Plain = {"part": "", "unit": "µs"}

    def read(self) -> list[Plain]:
        """All of them, named by enterprise and element."""
        rows = DeclaredField.objects.order_by("enterprise", "element")
        return [{"name": f"{row.enterprise}/{row.element}", "part": row.part, "unit": row.unit} for row in rows]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Declare a field."""
        enterprise, slash, element = str(entry["name"]).partition("/")
        if not (slash and enterprise.isdecimal() and element.isdecimal()):
            raise Refusal("A field is named by its enterprise and its element, such as 32473/1.")
        given = {"enterprise": int(enterprise), "element": int(element)}
        row = DeclaredField(**given) if is_new else DeclaredField.objects.get(**given)
        row.part, row.unit = entry["part"], entry["unit"]
        declared_fields.keep(row, by)


class AddressLists(Section):
    """Known addresses, and those that must not be seen."""

    key = "known_addresses"
    blank: Plain = {"is_deny": False, "within": "", "listed": "", "enabled": True}

    def read(self) -> list[Plain]:
        """All lists."""
        rows = AddressList.objects.order_by("name")
        return [{name: getattr(row, name) for name in ("name", *self.blank)} for row in rows]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a list."""
        row = AddressList() if is_new else AddressList.objects.get(name=entry["name"])
        for name, value in entry.items():
            setattr(row, name, value)
        strangers.keep_list(row, by)


class WatchedTraffics(Section):
    """Watched traffic. Ports, devices and sites are named, since numbers differ from one place to the next."""

    key = "watched_traffic"
    blank: Plain = {"filters": {}}

    def read(self) -> list[Plain]:
        """All of it."""
        return [{"name": row.name, "filters": _named(row.filters)} for row in WatchedTraffic.objects.order_by("name")]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Watch traffic; what is watched already under a name stays as it is, since rules and what was seen depend on it."""
        filters = _numbered(entry["filters"])
        if is_new:
            watched.watch(entry["name"], filters, by)
        elif WatchedTraffic.objects.get(name=entry["name"]).filters != filters:
            raise Refusal("It is watched already with other filters; end that first.")


def _named(filters: Mapping[str, str]) -> Plain:
    made: Plain = {}
    sites = {str(pk): name for pk, name in Site.objects.values_list("pk", "name")}
    for name, value in filters.items():
        if name == "interface":
            port = Interface.objects.filter(pk=value).values_list("device__name", "name").first()
            made[name] = {"device": port[0], "port": port[1]} if port else None
        elif name == "device":
            made[name] = Device.objects.filter(pk=value).values_list("name", flat=True).first()
        elif name == "group":
            made[name] = Group.objects.filter(pk=value).values_list("name", flat=True).first()
        elif name in ("src_site", "dst_site"):
            made[name] = sites.get(value, "")
        else:
            made[name] = value
    return made


def _numbered(filters: Mapping[str, object]) -> dict[str, str]:
    made: dict[str, str] = {}
    for name, value in filters.items():
        found: int | None = 0
        if name == "interface":
            given = value if isinstance(value, Mapping) else {}
            ports = Interface.objects.filter(device__name=given.get("device"), name=given.get("port"), gone_at=None)
            found = ports.values_list("pk", flat=True).first()
        elif name == "device":
            found = Device.objects.filter(name=value, retired_at=None).values_list("pk", flat=True).first()
        elif name == "group":
            found = Group.objects.filter(name=value).values_list("pk", flat=True).first()
        elif name in ("src_site", "dst_site"):
            found = Site.objects.filter(name=value).values_list("pk", flat=True).first() if value else 0
        else:
            made[name] = str(value)
            continue
        if found is None:
            raise Refusal(f"There is no {name} {value!r} here.")
        made[name] = str(found)
    return made
