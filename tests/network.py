"""A small network in the database, with readings of the last hours, as the server and the browser tests need it."""

from datetime import UTC, datetime, timedelta

import numpy as np

from lumtar.core.alarms.severity import Severity
from lumtar.core.counters import Snapshot
from lumtar.core.ledger import Status
from lumtar.core.rows import join_rows
from lumtar.domain.alarms.models import Rule
from lumtar.domain.alarms.rules import in_force
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Component, Device, DeviceState, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.operation.registry import SERVICES
from lumtar.domain.operation.services import beat
from lumtar.domain.readings import partitions, rollups
from lumtar.domain.readings import services as readings
from lumtar.engine import store
from lumtar.engine.batch import ComponentValue
from lumtar.engine.recorder import Answer, Recorder
from tests.alarms import first_rules, transition

PORTS = 4
GIGABIT = 10**9


def fill(hours: float = 3.0):
    """Two devices at two sites, readings a minute apart with a gap, one alarm that stands and one that was cleared."""
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    partitions.ensure((now - timedelta(days=2)).date(), (now + timedelta(days=1)).date())
    first_rules()
    recorder = Recorder(in_force())
    devices = []
    for number, (name, site) in enumerate((("hex-wan-1", "Hexwater"), ("sal-acc-1", "Saltby")), 1):
        device = add_device(
            f"127.0.0.{number}", port=1161, name=name, site=site, kind="v2c", secret={"community": "word"}
        )
        Interface.objects.bulk_create(
            Interface(device=device, if_index=n, name=f"g{n}", label="Transport A" if n == 1 else f"g{n}", alias="")
            for n in range(1, PORTS + 1)
        )
        Component.objects.create(device=device, kind="processor", index="1", name="Processor 1", unit="%")
        devices.append(device)
    processors = {row.device_id: row.pk for row in Component.objects.filter(device__in=devices)}
    slots = {device.pk: recorder.add(device, list(device.interfaces.order_by("if_index"))) for device in devices}
    begin = now - timedelta(hours=hours)
    Device.objects.update(added_at=begin)
    totals = {device.pk: np.zeros((PORTS, 12), np.uint64) for device in devices}
    quiet = []
    for minute in range(int(hours * 60)):
        at = (begin + timedelta(minutes=minute)).timestamp()
        answers = []
        for device in devices:
            counters = totals[device.pk]
            # The first port of hex-wan-1 runs at 30 % in and 95 % out, everything else idles.
            share = (0.30, 0.95) if device.name == "hex-wan-1" and minute > hours * 60 - 30 else (0.02, 0.01)
            counters[0, 0] += np.uint64(share[0] * GIGABIT / 8 * 60)
            counters[0, 1] += np.uint64(share[1] * GIGABIT / 8 * 60)
            if device.name == "hex-wan-1" and 40 <= minute < 70:
                continue
            answers.append(_answer(device, at, slots[device.pk], counters.copy(), processors[device.pk]))
        batch = recorder.take(answers)
        batch.transitions = [each for each in batch.transitions if each.severity is Severity.CLEARED or minute > 1]
        if batch.transitions or batch.entries or batch.speeds or minute > hours * 60 - 3:
            store.write(batch)
        else:
            quiet.append(batch)
    _write_at_once(quiet)
    rollups.roll_up_due(now)
    device = devices[1]
    rule = Rule.objects.get(name="Reachability")
    then = now - timedelta(hours=2)
    silent = "Does not answer: no answer on UDP 1161 in 3 tries"
    apply([transition(device, Severity.CRITICAL, silent, at=then, rule=rule)])
    over = then + timedelta(minutes=10)
    apply([transition(device, Severity.CLEARED, "Answers again after 10 minutes", at=over, rule=rule)])
    for name in (kind.name for kind in SERVICES):
        beat(name, now - timedelta(hours=1), datetime.now(UTC), {"devices": 2, "lag_s": 0})
    DeviceState.objects.update(reach="answers", answered_at=datetime.now(UTC))
    return devices


def _write_at_once(quiet):
    """Readings of many batches of which nothing but the readings matters."""
    readings.append(np.concatenate([batch.interfaces for batch in quiet]), join_rows([batch.seen for batch in quiet]))
    readings.append_components(*zip(*[part[1:] for batch in quiet for part in batch.components], strict=True))
    polls = [(each.device, each.at, each.rtt_ms, each.poll_ms) for batch in quiet for each in batch.devices]
    readings.append_devices(*zip(*polls, strict=True))


def _answer(device, at, slots, counters, processor):
    n = len(slots)
    snapshot = Snapshot(
        np.full(n, at),
        np.full(n, int(at * 100) % 2**32),
        np.zeros(n, np.int64),
        counters,
        np.ones(n, bool),
        np.ones(n, bool),
    )
    oper = np.array([1, 1, 1, 2], np.int16)
    status = Status(np.ones(n, np.int16), oper, np.full(n, 1000), np.full(n, GIGABIT))
    return Answer(
        device,
        at,
        int(at * 100) % 2**32,
        slots,
        snapshot,
        status,
        at + 60,
        1.5,
        12.0,
        [ComponentValue(processor, "processor", "%", at, 17.0)],
    )
