"""Who may send: the devices of the inventory by their addresses, and the credentials by which they are believed."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import structlog

from lumtar.core.refusal import Refusal
from lumtar.domain.inventory.credentials import opened
from lumtar.domain.inventory.models import Credential, Device
from lumtar.domain.operation.secrets import SecretUnreadable
from lumtar.domain.topology.models import OwnAddress
from lumtar.wire import usm
from lumtar.wire.session import Community
from lumtar.wire.traps import is_community

log = structlog.get_logger()


@dataclass(frozen=True, slots=True)
class Sender:
    """A device that may send, and by which notifications it says that it loses its power."""

    device: int
    name: str
    last_gasps: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class Senders:
    """All devices by address, and all credentials that devices are read with."""

    devices: Mapping[str, Sender] = field(default_factory=dict)
    communities: Sequence[str] = field(default_factory=list, repr=False)
    users: Mapping[bytes, list[usm.User]] = field(default_factory=dict, repr=False)

    def knows(self, community: bytes) -> bool:
        """Whether a community is one that devices are read with."""
        # All of them are compared, so that the time this takes says nothing.
        return sum(is_community(community, each) for each in self.communities) > 0


def load() -> Senders:
    """Everything as it stands in the database."""
    rows = Device.objects.filter(retired_at=None, enabled=True).values_list(
        "pk", "name", "address", "profile__last_gasps"
    )
    by_device = {pk: (Sender(pk, name, tuple(gasps or ())), address) for pk, name, address, gasps in rows}
    devices = {
        address: by_device[device][0]
        for address, device in OwnAddress.objects.filter(device__in=by_device).values_list("address", "device_id")
    }
    # The address by which it is polled is surer than one that several may have.
    devices |= {address: sender for sender, address in by_device.values()}
    communities: list[str] = []
    users: dict[bytes, list[usm.User]] = {}
    for credential in Credential.objects.filter(is_for_writing=False):
        try:
            known = opened(credential)
        except (SecretUnreadable, Refusal) as error:
            log.warning("a credential cannot be used for traps", credential=credential.pk, error=str(error))
            continue
        if isinstance(known, Community):
            communities.append(known.name)
        else:
            users.setdefault(known.name.encode(), []).append(known)
    return Senders(devices, communities, users)
