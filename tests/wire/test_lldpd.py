"""Neighbours as Debian's lldpd tells of them over AgentX, in two network namespaces that are joined by a virtual cable.

Nothing leaves the namespaces. Where they cannot be made (without root) the tests are skipped.
"""

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import pytest

from bench.ports import free_port
from tests.conftest import WORKER

NEAR, FAR = f"lumtar-near-{WORKER}", f"lumtar-far-{WORKER}"
SNMPD = """agentaddress udp:127.0.0.1:{port}
rocommunity test-word
master agentx
agentXSocket {socket}
"""
READ = """
import asyncio, json, socket, sys
from lumtar.core.topology.lldp import OwnPort
from lumtar.core.text import clean
from lumtar.engine.collector.lldp import read_neighbours
from lumtar.wire import ber, oids
from lumtar.wire.session import Community, Session
from lumtar.wire.tables import read_columns
from lumtar.wire.transport import Transport

async def main():
    transport = Transport()
    session = Session(transport, socket.AF_INET, ("127.0.0.1", int(sys.argv[1])), Community("test-word"))
    (names,) = await read_columns(session, [oids.IF_DESCR])
    own = [OwnPort(ber.suffix(index)[0], clean(name)) for index, name in zip(names.indexes, names.values)]
    found = await read_neighbours(session, own)
    transport.close()
    print(json.dumps([
        [each.local_port, each.if_index, each.sys_name, each.chassis.kind, each.port_descr, list(each.addresses)] for each in found
    ]))

asyncio.run(main())
"""


def run(*words, check=True):
    return subprocess.run([str(word) for word in words], capture_output=True, text=True, check=check)


class Pair:
    """Two hosts with a cable between them: lldpd on both, snmpd on one."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.port, self.processes = folder, free_port(), []

    def begin(self) -> None:
        """Make the namespaces and start everything in them."""
        folder = self.folder
        for name in (NEAR, FAR):
            run("ip", "netns", "add", name)
        run("ip", "link", "add", "va0", "netns", NEAR, "type", "veth", "peer", "name", "vb0", "netns", FAR)
        for name, port in ((NEAR, "va0"), (FAR, "vb0")):
            run("ip", "-n", name, "link", "set", "lo", "up")
            run("ip", "-n", name, "link", "set", port, "up")
        (folder / "snmpd.conf").write_text(SNMPD.format(port=self.port, socket=folder / "agentx"))
        self.start(
            NEAR, "/usr/sbin/snmpd", "-I", "-smux", "-f", "-LF", "6", folder / "log", "-C", "-c", folder / "snmpd.conf"
        )
        until(lambda: (folder / "agentx").exists())
        agent = f"-x -X {folder / 'agentx'}"
        for name, port, more in ((NEAR, "va0", agent), (FAR, "vb0", "")):
            control = folder / f"{port}.control"
            host = f"hostname host-{port}; exec lldpd -d {more} -I {port} -u {control} -O /dev/null"
            self.start(name, "unshare", "-u", "sh", "-c", host)
            words = ("lldpcli", "-u", control, "configure", "lldp", "tx-interval", "2")
            until(lambda words=words: run(*words, check=False).returncode == 0)

    def start(self, namespace, *words):
        command = ["ip", "netns", "exec", namespace, *map(str, words)]
        self.processes.append(
            subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        )

    def neighbours(self):
        return json.loads(run("ip", "netns", "exec", NEAR, sys.executable, "-c", READ, self.port).stdout)

    def stop(self):
        for process in reversed(self.processes):
            process.terminate()
        for process in self.processes:
            process.wait(10)
        for name in (NEAR, FAR):
            run("ip", "netns", "del", name, check=False)


def until(holds, seconds=20):
    for _ in range(seconds * 5):
        if found := holds():
            return found
        time.sleep(0.2)
    raise AssertionError("it did not come about in time")


@pytest.fixture(scope="module")
def pair():
    if run("unshare", "-n", "true", check=False).returncode:
        pytest.skip("network namespaces cannot be made here")
    with tempfile.TemporaryDirectory() as folder:
        # lldpd gives its rights away, and reaches its sockets all the same.
        Path(folder).chmod(0o755)
        running = Pair(Path(folder))
        try:
            running.begin()
            yield running
        finally:
            running.stop()


def test_an_lldp_agent_that_is_not_ours_tells_its_neighbour(pair):
    (found,) = until(pair.neighbours)
    local, if_index, name, kind, descr, _ = found
    assert (local, name, kind, descr) == ("va0", "host-vb0", "MAC address", "vb0")
    assert isinstance(if_index, int)


def test_a_cable_that_is_down_ends_it(pair):
    until(pair.neighbours)
    run("ip", "-n", FAR, "link", "set", "vb0", "down")
    try:
        until(lambda: not pair.neighbours())
    finally:
        run("ip", "-n", FAR, "link", "set", "vb0", "up")
