"""The sections of a set-up that are about paths: service classes, transports, and the paths themselves."""

from decimal import Decimal
from typing import Any

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.models import Device, Interface, Site
from lumtar.domain.paths import classes, services
from lumtar.domain.paths.models import Path, ServiceClass, Transport
from lumtar.domain.setup.section import Plain, Section


class ServiceClasses(Section):
    """What is promised of paths."""

    key = "service_classes"
    blank: Plain = {"limits": {}, "share": 99.0, "hours": "", "zone": "UTC"}

    def read(self) -> list[Plain]:
        """All of them."""
        rows = ServiceClass.objects.order_by("name")
        return [{name: getattr(row, name) for name in ("name", *self.blank)} for row in rows]

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a service class."""
        row = ServiceClass() if is_new else ServiceClass.objects.get(name=entry["name"])
        for name, value in entry.items():
            setattr(row, name, value)
        classes.keep_class(row, by)


class Transports(Section):
    """Lines of providers. The port of one is named, since numbers differ from one place to the next."""

    key = "transports"
    blank: Plain = {
        "provider": "",
        "site": "",
        "device": "",
        "port": "",
        "down_bps": None,
        "up_bps": None,
        "price": None,
        "currency": "",
    }

    def read(self) -> list[Plain]:
        """All of them."""
        rows = Transport.objects.select_related("site", "interface__device").order_by("name")
        return [
            {
                "name": row.name, "provider": row.provider, "site": row.site.name if row.site else "",
                "device": row.interface.device.name if row.interface else "", "port": row.interface.name if row.interface else "",
                "down_bps": row.down_bps, "up_bps": row.up_bps, "price": None if row.price is None else float(row.price),
                "currency": row.currency,
            }
            for row in rows
        ]  # fmt: skip

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a transport."""
        row = Transport() if is_new else Transport.objects.get(name=entry["name"])
        for name in ("name", "provider", "down_bps", "up_bps", "currency"):
            setattr(row, name, entry[name])
        row.price = None if entry["price"] is None else Decimal(f"{float(entry['price']):.2f}")
        row.site = _named(Site, entry["site"])
        row.interface = None
        if entry["port"]:
            ports = Interface.objects.filter(device__name=entry["device"], name=entry["port"], gone_at=None)
            row.interface = ports.first()
            if row.interface is None:
                raise Refusal(
                    f"There is no port {entry['port']} at {entry['device'] or 'a device without a name'} here."
                )
        classes.keep_transport(row, by)


class Paths(Section):
    """Paths that are measured."""

    key = "paths"
    blank: Plain = {
        "prober": "prober", "from_site": "", "to_site": "", "service_class": "", "transport": "", "device": "", "groups": [], "kind": "stamp", "address": "", "port": 862,
        "asked": "", "expected": "", "verifies": True, "dscp": 0, "octets": 100, "every_ms": 1000, "traces": False, "enabled": True,
    }  # fmt: skip
    named = {
        "from_site": Site,
        "to_site": Site,
        "service_class": ServiceClass,
        "transport": Transport,
        "device": Device,
    }

    def read(self) -> list[Plain]:
        """All of them."""
        rows = Path.objects.select_related(*self.named).order_by("name")
        return [{name: self._told(row, name) for name in ("name", *self.blank)} for row in rows]

    def _told(self, row: Path, name: str) -> Any:
        value = getattr(row, name)
        return str(value or "") if name in self.named or name == "address" else value

    def keep(self, entry: Plain, is_new: bool, by: str) -> None:
        """Keep a path."""
        row = Path() if is_new else Path.objects.get(name=entry["name"])
        for name, value in entry.items():
            setattr(row, name, _named(self.named[name], value) if name in self.named else value)
        row.address = entry["address"] or None
        services.keep(row, by)


def _named(kind: Any, name: str) -> Any:
    if not name:
        return None
    found = kind.objects.filter(name=name).first()
    if found is None:
        raise Refusal(f"There is no {kind._meta.verbose_name} {name} here.")
    return found
