"""From Debian's snmpd to stored bandwidth: an agent that is not ours, and bytes that were really sent."""

import asyncio
import socket
import subprocess
import threading
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest
from asgiref.sync import sync_to_async

from lumtar.domain.inventory.models import Device, DeviceState, Interface
from lumtar.domain.inventory.services import add_device
from lumtar.domain.readings.models import Newest, Reading
from tests.engine.conftest import collecting, eventually

pytestmark = pytest.mark.django_db(transaction=True)
USER = {
    "user": "anna",
    "auth": "sha1",
    "auth_password": "authenticate-me",
    "priv": "aes128",
    "priv_password": "keep-it-private",
}


async def added(snmpd, kind, secret, interval=2):
    made = await sync_to_async(add_device)("127.0.0.1", port=snmpd.port, kind=kind, secret=secret)
    await Device.objects.filter(pk=made.pk).aupdate(interval_s=interval, timeout_s=2, tries=2)
    return made


@pytest.mark.parametrize(("kind", "secret"), [("v2c", {"community": "correct-word"}), ("v3", USER)])
async def test_an_agent_that_is_not_ours(snmpd, kind, secret):
    device = await added(snmpd, kind, secret)
    async with collecting():
        await eventually(lambda: Reading.objects.filter(elapsed_ms__gt=0).exists(), 20)
    loopback = await Interface.objects.aget(device=device, name="lo")
    assert (await Newest.objects.aget(interface=loopback)).oper == 1
    stored = await Device.objects.aget(pk=device.pk)
    assert stored.sys_descr.startswith("Linux") and stored.location == "Depot, rack 4"


@pytest.mark.parametrize(
    ("kind", "secret", "words"),
    [
        ("v2c", {"community": "wrong-word"}, "a wrong community looks the same"),
        ("v3", {**USER, "user": "nobody"}, "does not know this user name"),
        ("v3", {**USER, "auth_password": "authenticate-you"}, "rejected the user's authentication key"),
        ("v3", {**USER, "priv_password": "keep-it-publicly"}, "privacy password"),
        ("v3", {**USER, "priv": "", "priv_password": ""}, "refused access"),
    ],
)
async def test_wrong_credentials_have_their_own_words(snmpd, kind, secret, words):
    device = await added(snmpd, kind, secret)
    async with collecting():
        state = await eventually(lambda: DeviceState.objects.filter(device=device, reach="silent").first())
    assert words in state.reason


def send(octets, payload=60_000):
    """Send so many octets of payload over the loopback interface, evenly over about four seconds."""
    with (
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sink,
        socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as source,
    ):
        sink.bind(("127.0.0.1", 0))
        sink.setblocking(False)
        number = octets // payload
        for each in range(number):
            source.sendto(bytes(payload), sink.getsockname())
            if each % 50 == 49:
                time.sleep(4 * 50 / number)
    # What the interface counts besides: UDP, IPv4 and Ethernet headers (RFC 768, RFC 791).
    return number * (payload + 8 + 20 + 14)


def on_loopback():
    lines = Path("/proc/net/dev").read_text().splitlines()
    line = next(line for line in lines if line.strip().startswith("lo:"))
    return int(line.split(":")[1].split()[0])


def counted_by(snmpd):
    """ifHCInOctets of lo, which is interface 1."""
    command = ["snmpget", "-v2c", "-ccorrect-word", "-Oqv", f"127.0.0.1:{snmpd.port}", "1.3.6.1.2.1.31.1.1.1.6.1"]
    return int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


async def test_the_bandwidth_that_is_stored_is_what_was_sent(snmpd):
    """A known number of bytes over lo: at least that is stored, and no more than the kernel counted with what others sent."""
    device = await added(snmpd, "v2c", {"community": "correct-word"})

    def stored():
        rows = Reading.objects.filter(interface__device=device, interface__name="lo", elapsed_ms__gt=0)
        return sum(rows.values_list("in_octets", flat=True))

    async with collecting():
        await eventually(lambda: Reading.objects.filter(elapsed_ms__gt=0).exists(), 20)
        # snmpd keeps its counters for some seconds: what is read from here on was counted since this.
        before = on_loopback()
        await eventually(lambda: counted_by(snmpd) >= before, 20)
        moment = datetime.now(UTC)
        await eventually(lambda: Reading.objects.filter(at__gt=moment, elapsed_ms__gt=0).exists(), 20)
        already = await sync_to_async(stored)()
        sent = 1_500_000_000
        box = []
        thread = threading.Thread(target=lambda: box.append(send(sent)))
        thread.start()
        while thread.is_alive():
            await asyncio.sleep(0.2)
        expected = box[0]
        await eventually(lambda: stored() - already >= 0.98 * expected, 20)
        await asyncio.sleep(3)
        found = await sync_to_async(stored)() - already
    assert 0.98 * expected <= found <= on_loopback() - before
