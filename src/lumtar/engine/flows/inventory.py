"""Whose the flows are: devices by address, interfaces by ifIndex, sites by prefix; as the database has them."""

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field

from lumtar.core.flows.lookups import Interfaces, Prefixes
from lumtar.domain.flows.exporters import Key
from lumtar.domain.flows.models import Exporter
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.topology.models import OwnAddress


@dataclass(frozen=True)
class Known:
    """What is known of devices, for flows to be added up."""

    devices: Mapping[str, int] = field(default_factory=dict)
    """By address."""
    interfaces: Mapping[int, Interfaces] = field(default_factory=dict)
    device_by_interface: Mapping[int, int] = field(default_factory=dict)
    sites: Prefixes = field(default_factory=Prefixes)
    usual_sampling: Mapping[Key, int] = field(default_factory=dict)

    def device_of(self, key: Key) -> int | None:
        """The device that an exporter is: by the agent that it names (sFlow), else by who sent it."""
        address, protocol, _ = key
        agent = protocol.removeprefix("sflow ")
        return self.devices.get(agent) or self.devices.get(address)


def load() -> Known:
    """Everything as it stands in the database."""
    devices: dict[str, int] = {}
    of_sites: dict[str, int] = {}
    own = OwnAddress.objects.filter(device__retired_at=None)
    for address, prefix, device, site in own.values_list("address", "prefix", "device_id", "device__site_id"):
        devices[address] = device
        if site and prefix:
            network = ipaddress.ip_interface(f"{address}/{prefix}").network
            if not (network.is_loopback or network.is_link_local or prefix < 8):
                of_sites.setdefault(str(network), site)
    # The address by which a device is polled is surer than one that several may have.
    devices |= dict(Device.objects.filter(retired_at=None).values_list("address", "pk"))
    by_device: dict[int, dict[int, int]] = {device: {} for device in devices.values()}
    rows = Interface.objects.filter(gone_at=None, device__retired_at=None, device__in=set(devices.values()))
    for pk, device, index in rows.values_list("pk", "device_id", "if_index"):
        by_device[device][index] = pk
    set_by_hand = Exporter.objects.filter(usual_sampling__isnull=False)
    return Known(
        devices,
        {device: Interfaces.of(indexes) for device, indexes in by_device.items()},
        {pk: device for device, indexes in by_device.items() for pk in indexes.values()},
        Prefixes.of(of_sites),
        {
            (address, protocol, domain): rate or 0
            for address, protocol, domain, rate in set_by_hand.values_list(
                "address", "protocol", "domain", "usual_sampling"
            )
        },
    )
