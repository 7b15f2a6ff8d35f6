"""Writing to devices: whether it is allowed at all, with which credential, and which actions a port has."""

from dataclasses import dataclass

from django.db import transaction
from django.utils import timezone

from lumtar.core.actions import ACTIONS, Action, Of
from lumtar.core.own_tables import Restart, check_restart
from lumtar.core.refusal import Refusal
from lumtar.domain.inventory import credentials
from lumtar.domain.inventory.models import Component, Credential, Device, Interface, Writing
from lumtar.domain.logbook.services import note_action

READ_ONLY = "Lumtar is read-only: it changes nothing on devices until an administrator allows it (Setup, credentials)."


class ReadOnly(Refusal):
    """Nothing may be written to devices now."""


@dataclass(frozen=True, slots=True)
class Target:
    """What is set: where, by which credentials, and at which instance of the action's column."""

    device: Device
    credentials: list[Credential]
    oid: str


def state() -> Writing:
    """Whether writing is allowed, since when and by whom."""
    return Writing.objects.order_by("pk").first() or Writing()


@transaction.atomic
def allow(*, is_allowed: bool, by: str) -> Writing:
    """Allow writing to devices, or make Lumtar read-only again."""
    row = state()
    row.is_allowed, row.changed_at, row.changed_by = is_allowed, timezone.now(), by
    row.save()
    note_action("writing to devices allowed" if is_allowed else "Lumtar made read-only", by)
    return row


def actions_of(port: Interface) -> list[Action]:
    """The actions that a port has."""
    return [each for each in ACTIONS.values() if _instance(port, each) is not None]


def _instance(port: Interface, action: Action) -> str | None:
    """The instance of an action's column for a port; None if it has none."""
    if action.of is Of.INTERFACE:
        return str(port.if_index) if port.if_index > 0 else None
    # RFC 3621 leaves the numbers to the agent; by far most use those of the interfaces.
    parts = Component.objects.filter(device=port.device_id, kind="poe port", gone_at=None)
    found = [index for index in parts.values_list("index", flat=True) if index.split(".")[-1] == str(port.if_index)]
    if len(found) != 1:
        return None
    return found[0] if "." in found[0] else f"1.{found[0]}"


def target(port: Interface, action: Action) -> Target:
    """Where an action on a port goes to.

    Raises
    ------
    ReadOnly, Refusal
    """
    if not state().is_allowed:
        raise ReadOnly(READ_ONLY)
    instance = _instance(port, action)
    device = Device.objects.select_related("site").get(pk=port.device_id)
    if instance is None or device.retired_at is not None:
        raise Refusal(f"{port.label} has no {action.object}.", "action")
    return Target(device, _credentials(device), f"{action.oid}.{instance}")


def restart_of(device: Device) -> Restart | None:
    """How a device is restarted, if its profile says so."""
    return check_restart(device.profile.restart) if device.profile else None


def restart_target(device: Device, restart: Restart) -> Target:
    """Where the restart of a device goes to.

    Raises
    ------
    ReadOnly, Refusal
    """
    if not state().is_allowed:
        raise ReadOnly(READ_ONLY)
    return Target(device, _credentials(device), restart.oid)


def _credentials(device: Device) -> list[Credential]:
    """The credentials for writing to a device, in the order of trying.

    Raises
    ------
    Refusal
        if there is none
    """
    listed = credentials.in_order(device.site.name if device.site else "", for_writing=True)
    if not listed:
        where = f" of {device.site.name}" if device.site else ""
        raise Refusal(
            f"There is no credential for writing to the devices{where}: an administrator makes one in Setup, credentials."
        )
    # Asked in a version that it does not speak it keeps still, and every silence costs seconds.
    # Who is limited to a part of the network may not read secrets, but the version.
    version = Credential.objects.filter(devices=device.pk).values_list("kind", flat=True).first()
    listed.sort(key=lambda each: each.kind != version)
    return listed


def note(port: Interface, action: Action, outcome: str, reason: str, by: str) -> None:
    """Write down what somebody did to a port, or tried."""
    device = Device.objects.values_list("name", flat=True).get(pk=port.device_id)
    note_action(f"{device} {port.label}: {outcome} ({reason})", by, interface=port)
