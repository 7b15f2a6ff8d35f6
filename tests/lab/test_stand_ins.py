"""The stand-ins: traffic that is exact and repeatable, faults that come and go."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from lab.bridging import host_at
from lab.builder import build
from lab.counting import Group
from lab.device import Device, chassis
from lab.faults import ACTIONS, HELP, FaultRefused, carry_out
from lab.incidents import Decay, Silence, Surge
from lab.lldp import Cabling
from lab.scenario import ENTERPRISE
from lab.traffic import ORIGIN
from lab.writing import write
from lumtar.wire import ber
from tests.lab.boxes import box, scenario

NOW = 1_795_440_000.0


@pytest.fixture(scope="module")
def county():
    return build()


def test_the_scenario_has_the_size_it_promises(county):
    ports = sum(len(each.ports) for each in county.boxes)
    assert 58 <= len(county.boxes) <= 64
    assert 1150 <= ports <= 1250
    assert len({each.address for each in county.boxes}) == len(county.boxes)
    assert all(each.address.startswith("127.64.") for each in county.boxes)
    assert ENTERPRISE == "1.3.6.1.4.1.32473"


def test_two_runs_agree(county):
    again = build()
    at = NOW + 12345.678
    assert np.array_equal(county.sources.octets(at), again.sources.octets(at))


@settings(max_examples=60)
@given(start=st.floats(0, 3e7), step=st.floats(0.01, 4000))
def test_counters_never_run_backwards(county, start, step):
    before, after = county.sources.octets(ORIGIN + start), county.sources.octets(ORIGIN + start + step)
    assert (after >= before).all()


def test_the_integral_is_exact_over_any_division(county):
    edges = NOW + np.linspace(0, 86400, 97)
    pieces = sum(county.sources.octets(b) - county.sources.octets(a) for a, b in pairwise(edges))
    whole = county.sources.octets(edges[-1]) - county.sources.octets(edges[0])
    assert np.allclose(pieces, whole, rtol=1e-9)


def test_day_and_night_differ(county):
    noon = NOW - NOW % 86400 + 14 * 3600
    night = NOW - NOW % 86400 + 5.5 * 3600
    flow = [county.sources.octets(at + 1800).sum() - county.sources.octets(at).sum() for at in (noon, night)]
    assert flow[0] > 4 * flow[1]


def test_an_uplink_carries_what_its_ports_carry(county):
    switch = county.box("hex-acc-1")
    group = Group(county, [(switch, port) for port in switch.ports], NOW, ())
    n = len(switch.ports)
    counted = group._since_origin(np.full(n, NOW + 600)) - group._since_origin(np.full(n, NOW))
    overhead = 600 * 30 * n
    uplink = [port.name for port in switch.ports].index("x1")
    clients = [row for row, port in enumerate(switch.ports) if port.alias and row != uplink]
    assert counted[uplink, 0] == pytest.approx(counted[clients, 1].sum(), abs=overhead)
    assert counted[uplink, 1] == pytest.approx(counted[clients, 0].sum(), abs=overhead)


class Clock:
    def __init__(self):
        self.now = NOW

    def __call__(self):
        return self.now


@pytest.fixture
def clock():
    return Clock()


@pytest.fixture
def device(clock):
    made = box()
    return Device(scenario([made]), made, NOW, clock, incidents=())


def flow(device, clock, seconds=60.0, port=0, column=0):
    """What a port counts in the next so many seconds."""
    before = device.counters(clock.now)[port, column]
    clock.now += seconds
    return device.counters(clock.now)[port, column] - before


def do(device, *words):
    return carry_out({device.box.name: device}, {"words": [words[0], device.box.name, *words[1:]]})


def test_a_pulled_cable_stops_the_counters_and_plugged_in_they_go_on(device, clock):
    assert flow(device, clock) > 0
    do(device, "link", "g1", "down")
    assert flow(device, clock) == 0
    assert not device.is_up(1, True)
    held = device.counters(clock.now)[0, 0]
    do(device, "link", "1", "up")
    assert device.counters(clock.now)[0, 0] == pytest.approx(held, abs=2)
    assert flow(device, clock) > 0


def test_a_share_of_the_speed(device, clock):
    do(device, "share", "g1", "40", "93")
    assert flow(device, clock, 60, column=0) == pytest.approx(0.40 * 1e9 / 8 * 60, rel=1e-6)
    assert flow(device, clock, 60, column=1) == pytest.approx(0.93 * 1e9 / 8 * 60, rel=1e-6)
    before = device.counters(clock.now)[0, 1]
    do(device, "share", "g1", "clear")
    assert device.counters(clock.now)[0, 1] == pytest.approx(before, abs=2)
    assert flow(device, clock) < 0.2 * 1e9 / 8 * 60


def test_a_restart_starts_everything_over(device, clock):
    assert device.uptime(clock.now) > 100 * 86400
    do(device, "restart")
    clock.now += 10
    assert device.uptime(clock.now) == 1000
    assert 0 < device.counters(clock.now)[0, 0] < 1e9


def test_a_wrap_comes_within_half_a_minute(device, clock):
    do(device, "wrap", "g1")
    assert device.counters(clock.now)[0, 0] < 2**64
    clock.now += 120
    assert device.counters(clock.now)[0, 0] > 2**64


def test_errors_come_and_stay_counted(device, clock):
    do(device, "errors", "g1", "50")
    assert flow(device, clock, 60, column=8) == pytest.approx(3000, abs=2)
    do(device, "errors", "g1", "clear")
    assert flow(device, clock, 60, column=8) == 0
    assert device.counters(clock.now)[0, 8] >= 2999


def test_lazy_counters_stand_still_between_refreshes(device, clock):
    do(device, "lazy", "90")
    clock.now = NOW - NOW % 90 + 90
    assert flow(device, clock, 60) == 0
    assert flow(device, clock, 60) > 0


def test_clear_takes_everything_out(device):
    for words in (("silent", "on"), ("garble", "short"), ("errors", "g1", "5"), ("link", "g1", "down")):
        do(device, *words)
    devices = {device.box.name: device}
    assert "cut_short" in carry_out(devices, {"words": ["show"]})
    do(device, "clear")
    assert carry_out(devices, {"words": ["show"]}) == "nothing"


@pytest.mark.parametrize(
    "words",
    [[], ["dance", "tst-acc-1"], ["link", "nobody", "1", "down"], ["link", "tst-acc-1", "g99", "down"], ["link", "tst-acc-1", "g1", "sideways"],
     ["share", "tst-acc-1", "g1", "140", "10"], ["share", "tst-acc-1", "g1"], ["errors", "tst-acc-1", "g1", "many"], ["garble", "tst-acc-1", "gently"]],
)  # fmt: skip
def test_what_cannot_be_done_is_said(device, words):
    with pytest.raises(FaultRefused):
        carry_out({device.box.name: device}, {"words": words})


def test_every_fault_is_explained():
    assert all(f"  {name} " in HELP for name in ACTIONS)


def test_incidents_are_part_of_the_counters():
    made = box()
    incidents = (
        Surge(made.name, "g1", -600, -300, 8e6, 0),
        Decay(made.name, "g2", -1000, 0, 1.0),
        Silence(made.name, -100, -50),
    )
    plain = Device(scenario([made]), made, NOW, lambda: NOW, incidents=())
    hit = Device(scenario([made]), made, NOW, lambda: NOW, incidents=incidents[:2])
    extra = hit.counters(NOW)[0, 0] - plain.counters(NOW)[0, 0]
    assert extra == pytest.approx(8e6 / 8 * 300, abs=2)
    assert hit.counters(NOW)[1, 8] > 100
    dark = Device(scenario([made]), made, NOW, lambda: NOW - 70, incidents=incidents)
    assert dark.silent
    assert dark.uptime(NOW) == 5000


class TestCables:
    @pytest.fixture
    def pair(self, clock):
        """Two boxes with a cable between them."""
        one, other = box("tst-acc-1"), box("tst-acc-2", "127.0.0.2")
        one.site, other.site = "North", "South"
        one.ports[0].alias, other.ports[1].alias = "Uplink to tst-acc-2", "To tst-acc-1"
        made = scenario([one, other])
        devices = {each.name: Device(made, each, NOW, clock, incidents=()) for each in (one, other)}
        Cabling(made, devices)
        return devices

    def test_both_ends_of_a_pulled_cable_are_down(self, pair):
        one, other = pair.values()
        carry_out(pair, {"words": ["link", "tst-acc-1", "g1", "down"]})
        assert not one.is_up(1, True) and not other.is_up(2, True)
        carry_out(pair, {"words": ["link", "tst-acc-2", "g2", "up"]})
        assert one.is_up(1, True) and other.is_up(2, True)

    def test_without_power_a_device_is_silent_and_the_port_of_its_neighbour_is_down(self, pair, clock):
        one, other = pair.values()
        carry_out(pair, {"words": ["power", "North", "off"]})
        assert one.silent and not other.silent and not other.is_up(2, True)
        carry_out(pair, {"words": ["power", "tst-acc-1", "on"]})
        clock.now += 5
        assert not one.silent and other.is_up(2, True) and one.uptime(clock.now) < 1000
        with pytest.raises(FaultRefused):
            carry_out(pair, {"words": ["power", "West", "off"]})

    def test_in_the_county_what_is_behind_a_pulled_cable_or_a_dark_site_is_cut_off(self, county, clock):
        devices = {each.name: Device(county, each, NOW, clock, incidents=()) for each in county.boxes}
        Cabling(county, devices, "cen-core-1")

        def silent():
            return {name for name, device in devices.items() if device.silent}

        assert silent() == set()
        carry_out(devices, {"words": ["link", "hex-wan-1", "lan1", "down"]})
        assert silent() == {"hex-acc-1"}
        carry_out(devices, {"words": ["link", "hex-wan-1", "lan1", "up"]})
        assert silent() == set()
        carry_out(devices, {"words": ["power", "Hexwater", "off"]})
        assert silent() == {"hex-acc-1", "hex-wan-1"}
        carry_out(devices, {"words": ["power", "Hexwater", "on"]})
        carry_out(devices, {"words": ["link", "hex-wan-1", "wan1", "down"]})
        assert silent() == set(), "there is a second transport"


class TestLayer2:
    """What stand-ins tell of bridges follows from their cables, and faults show in it."""

    @pytest.fixture
    def told(self, county, clock):
        devices = {each.name: Device(county, each, NOW, clock, incidents=()) for each in county.boxes}
        return devices, Cabling(county, devices)

    def heard(self, told, name):
        """The forwarding table of a switch: at which port it hears which address."""
        _, cabling = told
        switching = cabling.switching
        return switching._tables[switching._bridges[name]]

    def put(self, told, *words):
        devices, cabling = told
        return carry_out(devices, {"words": list(words)}, None, cabling)

    def test_a_station_moves_and_everybody_hears_it_elsewhere(self, told):
        devices, _ = told
        one, other = devices["cen-acc-1"].box, devices["cen-acc-3"].box
        mac = host_at(one, one.port("g3")).mac
        assert self.heard(told, "cen-acc-1")[mac] == 3
        self.put(told, "move", "cen-acc-1", "g3", "cen-acc-3", "g40")
        assert self.heard(told, "cen-acc-1")[mac] == one.port("x1").index
        assert self.heard(told, "cen-acc-3")[mac] == other.port("g40").index

    def test_exchanged_cables_lead_to_each_others_ends(self, told):
        devices, _ = told
        core, mac = devices["cen-core-1"].box, int.from_bytes(chassis(devices["cen-acc-2"].box), "big")
        before = self.heard(told, "cen-core-1")[mac]
        self.put(told, "exchange", "cen-core-1", "t4", "cen-core-1", "t5")
        after = self.heard(told, "cen-core-1")[mac]
        assert {before, after} == {core.port("t4").index, core.port("t5").index}

    def test_an_aggregate_holds_while_one_of_its_members_does(self, told):
        mac = int.from_bytes(chassis(told[0]["cen-core-1"].box), "big")
        self.put(told, "link", "cen-core-1", "t6", "down")
        assert self.heard(told, "cen-core-2")[mac] == 1001
        self.put(told, "link", "cen-core-1", "t7", "down")
        assert mac not in self.heard(told, "cen-core-2")

    def test_other_faults_are_put_in_and_cleared(self, told):
        devices, _ = told
        core = devices["cen-core-1"]
        index = core.box.port("t2").index
        for words in (("duplex", "t2", "half"), ("oneway", "t2", "on"), ("mtu", "t2", "9000"), ("vlan", "t2", "20")):
            self.put(told, words[0], "cen-core-1", *words[1:])
        self.put(told, "loop", "cen-core-1", "on")
        assert (
            core.is_deaf(index) and core.mtu(index) == 9000 and core.is_looped and core.missing_vlans == {index: {20}}
        )
        self.put(told, "clear", "cen-core-1")
        assert not core.is_deaf(index) and core.mtu(index) == 1500 and not core.is_looped and not core.missing_vlans
        for words in (
            ("move", "cen-acc-1", "g3"),
            ("exchange", "cen-core-1", "t1", "cen-core-1", "t99"),
            ("mtu", "cen-core-1", "t2", "7"),
        ):
            with pytest.raises(FaultRefused):
                self.put(told, *words)

    def test_a_tunnel_is_down_with_the_port_that_carries_it(self, told):
        router = told[0]["hex-wan-1"]
        self.put(told, "link", "hex-wan-1", "wan1", "down")
        assert not router.is_up(101, True) and router.is_up(102, True)

    @pytest.mark.parametrize(
        ("oid", "tag", "value", "status"),
        [
            ("1.3.6.1.2.1.2.2.1.7.1", ber.INTEGER, 2, 0),
            ("1.3.6.1.2.1.2.2.1.7.1", ber.INTEGER, 3, 10),
            ("1.3.6.1.2.1.2.2.1.7.1", ber.OCTET_STRING, b"2", 7),
            ("1.3.6.1.2.1.2.2.1.7.99", ber.INTEGER, 2, 11),
            ("1.3.6.1.2.1.31.1.1.1.18.1", ber.OCTET_STRING, b"x" * 65, 8),
            ("1.3.6.1.2.1.2.2.1.3.1", ber.INTEGER, 6, 17),
        ],
    )
    def test_what_may_be_set_is_set(self, told, oid, tag, value, status):
        device = told[0]["hex-acc-1"]
        assert write(device, ber.oid_body(oid), tag, value) == status
        assert device.is_up(1, True) == (status != 0)
