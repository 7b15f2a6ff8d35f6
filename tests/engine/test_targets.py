"""What the collector takes from the database: who is to be polled, and whether that changed."""

import numpy as np
import pytest

from lumtar.domain.inventory import services
from lumtar.domain.inventory.credentials import change, create
from lumtar.domain.inventory.models import Device, Interface
from lumtar.engine.collector import targets
from lumtar.engine.recorder import Recorder


@pytest.fixture
def devices():
    credential = create("Core", "v2c", {"community": "word"})
    made = [services.add_device(f"127.0.5.{n}", credential=credential) for n in (1, 2)]
    for device in made:
        Interface.objects.bulk_create(Interface(device=device, if_index=n, label=f"g{n}") for n in (1, 2, 3))
    return made


@pytest.mark.parametrize(
    "told",
    [
        {"name": "other"},
        {"address": "127.0.5.9"},
        {"port": 1161},
        {"interval_s": 30},
        {"timeout_s": 5.0},
        {"tries": 1},
        {"enabled": False},
        {"way": "icmp"},
        {"reads": {"tables": ["interfaces"], "objects": []}},
        {"label_template": "{name}"},
    ],
    ids=lambda told: next(iter(told)),
)
def test_whatever_matters_to_polling_changes_the_fingerprint(devices, told):
    before = targets.fingerprint()
    assert targets.fingerprint() == before
    Device.objects.filter(pk=devices[0].pk).update(**told)
    assert targets.fingerprint() != before


def test_a_rotated_credential_a_new_device_and_a_retired_one_change_it_too(devices):
    seen = {targets.fingerprint()}
    change(devices[0].credential_id, 1, name="Core", kind="v2c", secret={"community": "another"}, sites=())
    seen.add(targets.fingerprint())
    services.add_device("127.0.5.3", way="icmp")
    seen.add(targets.fingerprint())
    services.retire(devices[1].pk, "anna")
    seen.add(targets.fingerprint())
    assert len(seen) == 4
    assert {device.address for device in targets.load_devices()} == {"127.0.5.1", "127.0.5.3"}


def test_what_only_people_read_does_not(devices):
    before = targets.fingerprint()
    Device.objects.update(tags={"owner": "it"}, serial="S1", sys_descr="something")
    assert targets.fingerprint() == before


def test_sold_speeds_are_taken_over_and_given_up(devices):
    recorder = Recorder([])
    loaded = targets.load_targets(recorder, targets.load_devices())
    port = Interface.objects.get(device=devices[1], if_index=2)
    Interface.objects.filter(pk=port.pk).update(in_override_bps=10**6)
    assert targets.load_overrides() == {port.pk: (10**6, 0)}
    recorder.renew_overrides(targets.load_overrides())
    slot = loaded[1].slot_of[2]
    state = recorder.ledger.state
    assert (state.in_override[slot], state.out_override[slot]) == (10**6, 0)
    assert np.count_nonzero(state.in_override) == 1
    recorder.renew_overrides({})
    assert not state.in_override.any()


def test_ports_that_are_gone_are_not_polled(devices):
    Interface.objects.filter(device=devices[0], if_index=3).update(gone_at="2026-11-23T12:00:00Z", if_index=-3)
    loaded = targets.load_targets(Recorder([]), targets.load_devices())
    assert [sorted(target.slot_of) for target in loaded] == [[1, 2], [1, 2, 3]]
    assert list(loaded[1].slots([3, 1])) == [loaded[1].slot_of[3], loaded[1].slot_of[1]]


def test_a_device_that_is_watched_by_echo_needs_no_credential(devices):
    made = services.add_device("127.0.5.4", way="icmp")
    assert targets.signature(Device.objects.get(pk=made.pk))[2:5] == ("icmp", None, "")
