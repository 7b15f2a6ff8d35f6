"""The receiver: whom it believes, what it keeps, what it does on it; and that a storm does not drown it."""

import asyncio
import socket
import subprocess
from datetime import UTC, datetime, timedelta

import pytest
from asgiref.sync import sync_to_async
from django.db import OperationalError

from bench.ports import free_port
from lab.device import Device as StandIn
from lab.network import v3_user
from lab.scenario import COMMUNITY as LAB_COMMUNITY
from lab.scenario import LOST_POWER
from lab.traps import Traps
from lumtar.core.alarms.severity import Severity
from lumtar.core.traps import KNOWN, LINK_DOWN, LINK_UP, Notification
from lumtar.domain.alarms import power
from lumtar.domain.alarms.models import LastGasp, Rule
from lumtar.domain.alarms.services import apply
from lumtar.domain.inventory.models import Device, Interface, PollRequest, Profile
from lumtar.domain.inventory.services import add_device
from lumtar.domain.logbook.models import Entry
from lumtar.engine.receiver import keeping, receiver, senders
from lumtar.engine.receiver.keeping import Keeper, Taken
from lumtar.engine.receiver.receiver import Receiver
from lumtar.engine.receiver.senders import Sender
from tests.alarms import transition
from tests.lab.boxes import box, scenario

NOW = datetime.now(UTC).timestamp()
RESTARTED = "1.3.6.1.6.3.1.1.5.1"


@pytest.fixture
def device():
    profile = Profile.objects.create(name="Switches", last_gasps=[LOST_POWER])
    made = add_device("127.0.9.9", name="sw-1", site="Hexwater", kind="v2c", secret={"community": "correct"})
    Device.objects.filter(pk=made.pk).update(profile=profile)
    Interface.objects.create(device=made, if_index=7, name="g7", label="Desk 7")
    return made


def entries(device):
    rows = Entry.objects.filter(device=device, kind=Entry.Kind.TRAP).order_by("pk")
    return list(rows.values_list("text", "interface__label"))


def taken(device, oid, if_index=None, at=NOW, gasps=()):
    objects = [(f"1.3.6.1.2.1.2.2.1.1.{if_index}", if_index)] if if_index else []
    return Taken(Sender(device.pk, device.name, gasps), Notification(oid, objects), at)


@pytest.fixture
async def running(monkeypatch):
    monkeypatch.setenv("LUMTAR_TRAP_PORT", str(free_port()))
    monkeypatch.setattr(receiver, "GATHER_S", 0.05)
    monkeypatch.setattr(receiver, "RENEW_S", 0.3)
    made = Receiver("test")
    work = asyncio.create_task(made.run())
    for _ in range(200):
        if made.tasks.get("listening for traps"):
            break
        await asyncio.sleep(0.02)
    yield made
    work.cancel()
    await asyncio.gather(work, return_exceptions=True)


async def until(true):
    for _ in range(300):
        if await sync_to_async(true)():
            return
        await asyncio.sleep(0.03)
    raise AssertionError("waited in vain")


def send(made, source, *words):
    """One trap by net-snmp's own tool, from an address of this machine."""
    host, port = made.address
    target = f"{host}:{port}"
    command = [words[0], f"--clientaddr={source}", "-v2c", "-c", words[1], "-r", "1", "-t", "3", target, "", *words[2:]]
    return subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)


async def test_a_trap_is_written_down_and_its_device_polled(device, running):
    port = ["1.3.6.1.2.1.2.2.1.1.7", "i", "7", "1.3.6.1.2.1.2.2.1.8.7", "i", "2"]
    await asyncio.to_thread(send, running, "127.0.9.9", "snmptrap", "correct", LINK_DOWN, *port)
    await until(lambda: entries(device) == [("trap linkDown: Desk 7 operationally down", "Desk 7")])
    assert await sync_to_async(PollRequest.objects.filter(device=device, done_at=None).count)() == 1
    assert running.progress()["taken"] == 1 and running.progress()["strangers"] == []


async def test_an_inform_request_is_confirmed_only_if_it_is_believed(device, running):
    good = await asyncio.to_thread(send, running, "127.0.9.9", "snmpinform", "correct", LINK_UP)
    assert good.returncode == 0 and not good.stderr
    wrong = await asyncio.to_thread(send, running, "127.0.9.9", "snmpinform", "guessed", LINK_UP)
    assert "Timeout" in wrong.stderr
    await until(lambda: len(entries(device)) == 1)


async def test_strangers_are_told_of_and_a_device_that_is_added_is_one_no_longer(device, running):
    await asyncio.to_thread(send, running, "127.0.9.8", "snmptrap", "correct", LINK_UP)
    await until(lambda: running.progress()["refused"] == 1)
    (stranger,) = running.progress()["strangers"]
    assert (stranger["address"], stranger["why"]) == ("127.0.9.8", "the sender is not in the inventory")
    added = await sync_to_async(add_device)("127.0.9.8", name="new", kind="v2c", secret={"community": "correct"})
    await asyncio.sleep(0.6)
    await asyncio.to_thread(send, running, "127.0.9.8", "snmptrap", "correct", LINK_UP)
    await until(lambda: len(entries(added)) == 1)


async def test_stand_ins_of_both_versions_are_heard(running):
    built = [
        box(address="127.0.9.9", name="plain"),
        box(address="127.0.9.10", name="secret"),
    ]
    built[1].version3 = True
    devices = {each.name: StandIn(scenario(each), each, NOW - 1e6, lambda: NOW) for each in built}
    user = v3_user()
    secret = {
        "user": user.name, "auth": "sha1", "auth_password": user.auth_password,
        "priv": "aes128", "priv_password": user.priv_password,
    }  # fmt: skip
    plain = await sync_to_async(add_device)("127.0.9.9", name="plain", kind="v2c", secret={"community": LAB_COMMUNITY})
    private = await sync_to_async(add_device)("127.0.9.10", name="secret", kind="v3", secret=secret)
    await asyncio.sleep(0.6)
    Traps(devices, running.address[1], user)
    for each in devices.values():
        each.restart()
    await until(lambda: len(entries(plain)) == 1 and len(entries(private)) == 1)
    assert running.progress()["refused"] == 0


async def test_nonsense_is_counted_and_harms_nobody(device, running):
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as outlet:
        for data in (b"", b"\x30", b"\x30\x03\x02\x01\x05", bytes(5000), b"\x30\x80" * 40):
            outlet.sendto(data, running.address)
    await until(lambda: running.progress()["refused"] == 5)
    assert "cannot be understood" in running.progress()["strangers"][0]["why"]
    await asyncio.to_thread(send, running, "127.0.9.9", "snmptrap", "correct", LINK_UP)
    await until(lambda: len(entries(device)) == 1)


async def test_a_port_that_is_taken_is_told(monkeypatch, device):
    port = free_port()
    monkeypatch.setenv("LUMTAR_TRAP_PORT", str(port))
    monkeypatch.setattr("lumtar.engine.service.FIRST_PAUSE_S", 0.05)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as holder:
        holder.bind(("127.0.0.1", port))
        made = Receiver("test")
        work = asyncio.create_task(made.run())
        await until(lambda: "cannot listen for traps at 127.0.0.1" in made.trouble())
    await until(lambda: made.trouble() == "")
    work.cancel()
    await asyncio.gather(work, return_exceptions=True)


def test_what_waits_is_kept_once_the_database_is_back(device, monkeypatch):
    made = Receiver("test")
    made._senders = senders.load()
    made._waiting.extend(taken(device, RESTARTED, at=NOW + number) for number in range(3))

    def away(some):
        raise OperationalError("the database is away")

    monkeypatch.setattr(made._keeper, "keep", away)
    with pytest.raises(OperationalError):
        made._keep_what_waits()
    monkeypatch.undo()
    made._keep_what_waits()
    assert len(entries(device)) == 3 and not made._waiting


def test_a_device_that_sends_without_end_does_not_fill_the_logbook(device):
    keeper = Keeper()
    start = NOW - NOW % keeping.MINUTE_S
    keeper.keep([taken(device, RESTARTED, at=start + number / 10) for number in range(300)])
    assert len(entries(device)) == keeping.MOST_ENTRIES
    keeper.keep([taken(device, RESTARTED, at=start + keeping.MINUTE_S)])
    assert entries(device)[-1][0].endswith("(before it 280 further traps in a short time)")
    assert PollRequest.objects.filter(device=device).count() == 1, "one poll answers for all of them"


def test_more_than_can_wait_are_dropped_and_counted(device, monkeypatch):
    monkeypatch.setattr(receiver, "MOST_WAITING", 3)
    made = Receiver("test")
    made._senders = senders.load()
    sender = made._senders.devices["127.0.9.9"]
    for _ in range(5):
        try:
            made._take(sender, receiver.Received(Notification(LINK_UP), b""))
        except receiver.Refused:
            continue
    assert made.progress()["taken"] == 3 and made.progress()["dropped"] == 2


def test_a_device_that_was_deleted_meanwhile_is_left_out(device):
    other = taken(device, RESTARTED)
    Device.objects.filter(pk=device.pk).delete()
    Keeper().keep([other])
    assert not Entry.objects.filter(kind=Entry.Kind.TRAP).exists()


def test_what_means_nothing_to_polls_asks_for_none(device):
    failure = next(oid for oid, known in KNOWN.items() if known.name == "authenticationFailure")
    Keeper().keep([taken(device, failure), taken(device, "1.3.6.1.4.1.32473.0.1")])
    assert len(entries(device)) == 2 and not PollRequest.objects.exists()


def test_a_last_gasp_is_told_beside_the_alarm(device):
    rule = Rule.objects.get(name="Reachability")
    at = datetime.now(UTC)
    sender = senders.load().devices["127.0.9.9"]
    Keeper().keep([taken(device, LOST_POWER, at=(at - timedelta(seconds=40)).timestamp(), gasps=sender.last_gasps)])
    assert entries(device)[0][0] == f"trap {LOST_POWER}: it is losing its power"
    apply([transition(device, Severity.CRITICAL, "Does not answer", at=at, rule=rule)])
    assert (
        power.note_of("unreachable", device.pk)
        == "It said 40 seconds before this was noticed that it was losing its power"
    )
    LastGasp.objects.update(at=at - timedelta(hours=1))
    assert power.note_of("unreachable", device.pk) == "", "that was another time"
    other = add_device("127.0.9.8", name="sw-2", site="Hexwater", kind="v2c", secret={"community": "correct"})
    apply([transition(other, Severity.CRITICAL, "Does not answer", at=at, rule=rule)])
    assert "looks like a loss of power" in power.note_of("unreachable", device.pk)
    LastGasp.objects.update(at=at)
    (site,) = set(power.dark_sites().values())
    assert (site.gasped, site.reading) == (1, "its power is gone")
    assert power.note_of("unreachable", device.pk).endswith(
        "and 1 of them said that they were losing their power: it is gone there"
    )


def test_versions_of_addresses_are_told_alike():
    assert receiver._plain("::ffff:192.0.2.1") == "192.0.2.1" and receiver._plain("fe80::1%eth0") == "fe80::1"
