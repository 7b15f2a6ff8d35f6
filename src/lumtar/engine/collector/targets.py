"""The devices to poll, as the database has them, and what the collector knows beside it."""

import asyncio
import socket
import time
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from django.db import connection
from numpy.typing import NDArray

from lumtar.core.profiles import Table
from lumtar.core.reach import may_be_sent, refusal
from lumtar.core.refresh import Dating
from lumtar.domain.alarms import baselines, memory
from lumtar.domain.alarms.exceptions import Applies, narrowed
from lumtar.domain.alarms.models import Rule
from lumtar.domain.alarms.queries import active_of
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.inventory import lately, refreshes
from lumtar.domain.inventory.credentials import opened
from lumtar.domain.inventory.description import KnownComponent
from lumtar.domain.inventory.models import Component, Device, DeviceState, Interface, LabelRun
from lumtar.domain.inventory.profiles import neighbour_table_of, objects_of, wireless_tables_of
from lumtar.domain.operation.secrets import SecretUnreadable
from lumtar.domain.readings import newest
from lumtar.engine.batch import Reachability, moment
from lumtar.engine.collector.reading import Plan
from lumtar.engine.recorder import Recorder
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Patience, Session
from lumtar.wire.transport import Address, Transport, resolve

RESOLVE_AGAIN = 600.0


@dataclass(slots=True)
class Target:
    """One device with what its polls need."""

    device: Device
    plan: Plan = field(default_factory=Plan)
    session: Session | None = None
    resolved_at: float = float("-inf")
    """By the monotonic clock."""
    place: tuple[socket.AddressFamily, Address] | None = None
    slot_of: dict[int, int] = field(default_factory=dict)
    """By ifIndex, which may change; ports that are gone keep their slot in the next one."""
    slot_of_port: dict[int, int] = field(default_factory=dict)
    order: tuple[list[int], NDArray[np.int64]] = field(default_factory=lambda: ([], np.zeros(0, np.int64)))
    components: dict[tuple[str, str], KnownComponent] = field(default_factory=dict)
    """Its components by kind and index."""
    gone_ports: list[tuple[str, float]] = field(default_factory=list)
    """Ports that it stopped to list within the last day, and when (seconds of the epoch)."""
    is_as_loaded: bool = True
    """What is known of it is what the database had."""
    dating: Dating = field(default_factory=Dating)
    """When its agent refreshes its counters; see refreshing.py."""
    polled_at: float = float("-inf")
    """When its counters were read last (seconds of the epoch)."""
    look_due: float = 0.0
    """By the monotonic clock: when to ask what is around it again."""
    refresh_due: float = 0.0
    """By the monotonic clock: when to look at that again."""
    due: float = 0.0
    asked: set[int] = field(default_factory=set)
    """Requests to poll it now."""
    busy: bool = False
    gone: bool = False

    def gone_at(self, at: float) -> tuple[str, ...]:
        """The ports that count as gone at a time; none if its profile does not read ports."""
        if Table.INTERFACES not in self.plan.tables:
            return ()
        return tuple(label for label, since in self.gone_ports if at - since < lately.DAY.total_seconds())

    def slots(self, indexes: list[int]) -> NDArray[np.int64]:
        """Slots of these indexes; the last answer is kept, since it is nearly always the same."""
        if self.order[0] != indexes:
            self.order = (indexes, np.array([self.slot_of[index] for index in indexes], np.int64))
        return self.order[1]


async def locate(target: Target) -> None:
    """Look up where the device is, now and then anew.

    Raises
    ------
    Fault
    """
    device = target.device
    if target.place is None or time.monotonic() - target.resolved_at > RESOLVE_AGAIN:
        place = await asyncio.to_thread(resolve, device.address, device.port)
        if place != target.place:
            target.place, target.session = place, None
        target.resolved_at = time.monotonic()


def open_session(target: Target, transport: Transport, patience: Patience) -> Session:
    """A new session to a device that was located.

    Raises
    ------
    Fault
        if its credential cannot be used
    """
    device = target.device
    assert target.place is not None and device.credential is not None
    try:
        credential = opened(device.credential)
    except (SecretUnreadable, ValueError) as error:
        raise Fault(FaultKind.CREDENTIAL, f"its credential cannot be used: {error}") from error
    family, address = target.place
    if not may_be_sent(device.credential.ranges, address[0]):
        raise Fault(FaultKind.CREDENTIAL, refusal(device.credential.name, device.credential.ranges, address[0]))
    return Session(transport, family, address, credential, patience)


def signature(device: Device) -> tuple[object, ...]:
    """What of a device makes a new session necessary when it changes."""
    sealed, ranges = (device.credential.sealed, device.credential.ranges) if device.credential else ("", "")
    return (
        device.address,
        device.port,
        device.way,
        device.credential_id,
        sealed,
        ranges,
        device.timeout_s,
        device.tries,
    )


def load_devices() -> list[Device]:
    """The devices that are to be polled."""
    devices = Device.objects.filter(enabled=True, retired_at=None).order_by("pk")
    return list(devices.select_related("credential", "site", "profile"))


def fingerprint() -> int:
    """A number that changes when anything about the devices to poll does; much cheaper than loading them."""
    with connection.cursor() as cursor:
        cursor.execute(
            """SELECT coalesce(sum(hashtextextended(ROW(d.id, d.name, d.address, d.port, d.way, d.interval_s, d.timeout_s,
                d.tries, d.credential_id, c.kind, c.sealed, c.ranges, d.reads, d.profile_id, d.label_template)::text, 0)::numeric), 0) FROM inventory_device d
            LEFT JOIN inventory_credential c ON c.id = d.credential_id WHERE d.enabled AND d.retired_at IS NULL"""
        )
        return int(cursor.fetchone()[0])


def load_overrides() -> dict[int, tuple[int, int]]:
    """The speeds that somebody set: interface -> bits per second in and out, 0 for the port's own."""
    overridden = Interface.objects.exclude(in_override_bps=None, out_override_bps=None)
    rows = overridden.values_list("pk", "in_override_bps", "out_override_bps")
    return {pk: (into or 0, out or 0) for pk, into, out in rows}


def plan_for(device: Device) -> Plan:
    """A plan that reads what the device's profile wants."""
    tables, objects = objects_of(device)
    return Plan(
        tables=tables,
        objects=objects,
        neighbour_table=neighbour_table_of(device),
        wireless_tables=wireless_tables_of(device),
    )


def follow(target: Target, device: Device) -> None:
    """Take over what was changed about a device."""
    before = target.device
    if signature(device) != signature(before):
        target.session = target.place = None
    if device.reads != before.reads:
        target.plan = plan_for(device)
    elif (device.profile_id, device.label_template) != (before.profile_id, before.label_template):
        target.plan.discovered = False
    target.device = device


def labelled() -> int:
    """A number that grows when ports were labelled anew."""
    return LabelRun.objects.order_by("-pk").values_list("pk", flat=True).first() or 0


def load_labels() -> dict[int, tuple[str, str]]:
    """Label and role of every port."""
    rows = Interface.objects.filter(gone_at=None).values_list("pk", "label", "role")
    return {pk: (label, role) for pk, label, role in rows}


SCOPES_S = 60.0


@dataclass(slots=True)
class RulesInForce:
    """The rules, and of those that are narrowed the subjects that they are about.

    Conditions are looked at again when a rule changed, and once a minute: ports come, go and are labelled meanwhile.
    """

    revisions: dict[int, int] = field(default_factory=dict)
    scopes: dict[int, Applies] = field(default_factory=dict)
    looked_at: float = float("-inf")
    _ranges: tuple[object, ...] = ()
    _compare: bool = False
    """Whether any of them compares with what is normal."""

    def load(self) -> tuple[list[Rule], dict[int, Applies]]:
        """What holds now."""
        rules, now = in_force(), time.monotonic()
        revisions = {rule.pk: rule.revision for rule in rules}
        if revisions != self.revisions or now - self.looked_at > SCOPES_S:
            self.scopes = narrowed(rules)
            self.revisions, self.looked_at = revisions, now
            self._compare = any(rule.reference for rule in rules)
        return rules, self.scopes

    def renew_ranges(self, devices: int | None, read: Callable[[], None]) -> None:
        """Have what is normal read again, if it was learned anew, or if rules or devices are others than the last time."""
        ranges = (baselines.learned_at() if self._compare else None, self.revisions, devices)
        if ranges != self._ranges:
            read()
            self._ranges = ranges


def load_targets(recorder: Recorder, devices: list[Device]) -> list[Target]:
    """Targets that go on where the collector left off, with the newest counters, the rules' memory and the alarms that stand."""
    with recorder.lock:
        return _load_targets(recorder, devices)


def _load_targets(recorder: Recorder, devices: list[Device]) -> list[Target]:
    targets = []
    ids = [device.pk for device in devices]
    interfaces: dict[int, list[Interface]] = {device: [] for device in ids}
    for interface in Interface.objects.filter(device_id__in=ids, gone_at=None).order_by("if_index"):
        interfaces[interface.device_id].append(interface)
    components: dict[int, dict[tuple[str, str], KnownComponent]] = {number: {} for number in ids}
    there = Component.objects.filter(device_id__in=ids, gone_at=None)
    for number, kind, index, pk, name, unit, scale in there.values_list(
        "device", "kind", "index", "pk", "name", "unit", "scale"
    ):
        components[number][kind, index] = KnownComponent(pk, name, unit, scale)
    slot_of: dict[int, int] = {}
    owner_of: dict[int, int] = {}
    for device in devices:
        target = Target(device, plan_for(device), components=components[device.pk])
        mine = interfaces[device.pk]
        for interface, slot in zip(mine, recorder.add(device, mine), strict=True):
            target.slot_of[interface.if_index] = target.slot_of_port[interface.pk] = int(slot)
            slot_of[interface.pk] = int(slot)
            owner_of[interface.pk] = device.pk
        targets.append(target)
    learnt, gone = refreshes.load(ids), lately.gone(ids, moment(time.time()))
    for target in targets:
        target.gone_ports = gone.get(target.device.pk, [])
        target.dating.refresh = learnt.get(target.device.pk, target.dating.refresh)
    _bring_back(recorder, slot_of, owner_of, ids)
    return targets


def _bring_back(recorder: Recorder, slot_of: dict[int, int], owner_of: dict[int, int], devices: list[int]) -> None:
    """The newest counters, what rules remember, and the alarms that are active."""
    last = newest.load(recorder.ledger.state, slot_of)
    polled: dict[int, float] = {}
    for state in DeviceState.objects.filter(device_id__in=devices):
        polled[state.device_id] = state.polled_at.timestamp() if state.polled_at else 0.0
        recorder.reach[state.device_id] = Reachability(
            reach=state.reach,
            since=state.since.timestamp() if state.since else 0.0,
            silent_polls=state.silent_polls,
            answered_at=state.answered_at.timestamp() if state.answered_at else None,
            started_at=state.started_at.timestamp() if state.started_at else None,
            reason_kind=state.reason_kind,
            reason=state.reason,
        )
    for port, (bps, until) in lately.fastest(devices, moment(time.time())).items():
        if (slot := slot_of.get(port)) is not None:
            recorder.negotiated.fastest_bps[slot], recorder.negotiated.fastest_at[slot] = bps, until
    components = dict(Component.objects.filter(device_id__in=devices, gone_at=None).values_list("pk", "device_id"))
    at_component = {pk: polled.get(device, 0.0) for pk, device in components.items()}
    of_kind = {
        "interface": (last, owner_of),
        "device": (polled, {device: device for device in devices}),
        "component": (at_component, components),
    }
    active = active_of(devices)
    for kind, (times, owners) in of_kind.items():
        if recorder.watch.kinds[kind].rules.rules:
            recorder.watch.bring_back(kind, memory.load(kind, devices), active.get(kind, []), times, owners)
            recorder.watch.recall(kind, owners, time.time())
