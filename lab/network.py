"""The running stand-in network: one agent a box, and a small control port for faults."""

import asyncio
import json
import time
from pathlib import Path

from lab.agent import Agent
from lab.controller import Controller
from lab.device import Device
from lab.faults import FaultRefused, carry_out
from lab.flows import EXPORT_S, Exporting
from lab.lldp import Cabling
from lab.paths import Reflectors
from lab.receivers import Receivers
from lab.scenario import COMMUNITY, PORT, V3_USER, V3_WRITER, WRITE_COMMUNITY, Scenario
from lab.services import Services
from lab.traps import Traps
from lab.wireless import EVERY_S as ROAM_S
from lumtar.wire import usm

COLLECTOR_AT = "cen-core-1"
"""The device that everything is asked by way of."""


def v3_user(words: tuple[str, str, str] = V3_USER) -> usm.User:
    """Who may read the version 3 devices, or another user of theirs."""
    name, auth, priv = words
    return usm.User(name, usm.AuthProtocol.SHA1, auth, usm.PrivProtocol.AES128, priv)


class Network:
    """All agents of a scenario. ``epoch`` anchors its incidents, seconds of the epoch; traps and flows go to ports of this machine;
    with a certificate there is a controller as well.
    """

    def __init__(
        self,
        scenario: Scenario,
        epoch: float,
        receivers: Receivers | None = None,
        trap_port: int | None = None,
        flow_port: int | None = None,
        certificate: tuple[bytes, bytes] | None = None,
    ) -> None:
        self._receivers = receivers
        self.devices = {box.name: Device(scenario, box, epoch, time.time) for box in scenario.boxes}
        self.cabling = Cabling(scenario, self.devices, COLLECTOR_AT)
        user, writer = v3_user(), v3_user(V3_WRITER)
        if trap_port is not None:
            Traps(self.devices, trap_port, user)
        self.agents = [
            Agent(
                device,
                address,
                PORT,
                COMMUNITY,
                user if device.box.version3 else None,
                WRITE_COMMUNITY,
                writer if device.box.version3 else None,
            )
            for device in self.devices.values()
            for address in (device.box.address, *device.box.also)
        ]
        self.exporting = Exporting(scenario, self.devices, epoch, flow_port) if flow_port is not None else None
        self.reflectors = Reflectors(self.devices) if flow_port is not None else None
        self.services = Services(epoch=epoch) if flow_port is not None else None
        self.controller = Controller(self.devices, certificate) if certificate else None
        self._server: asyncio.Server | None = None
        self._exporting: asyncio.Task[None] | None = None
        self._roaming: asyncio.Task[None] | None = None

    async def listen(self, port: int) -> None:
        """Take commands on a loopback port, one JSON object a line; from now on, wireless clients come and go."""
        self._roaming = asyncio.create_task(self._roam())
        self._exporting = asyncio.create_task(self._export())
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", port)

    async def _roam(self) -> None:
        while True:
            await asyncio.sleep(ROAM_S)
            self.cabling.roam()

    async def _export(self) -> None:
        while self.exporting is not None:
            await asyncio.to_thread(self.exporting.export, time.time())
            await asyncio.sleep(EXPORT_S)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while line := await reader.readline():
            try:
                command = json.loads(line)
                said = carry_out(
                    self.devices,
                    command,
                    self._receivers,
                    self.cabling,
                    self.reflectors,
                    self.services,
                    self.controller,
                )
                answer = {"said": said}
            except FaultRefused as refused:
                answer = {"error": str(refused)}
            except (ValueError, TypeError, KeyError) as error:
                answer = {"error": f"that is not a command: {error}"}
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()
        writer.close()

    def close(self) -> None:
        """Stop all agents."""
        for task in (self._roaming, self._exporting):
            if task:
                task.cancel()
        if self.exporting:
            self.exporting.close()
        if self.reflectors:
            self.reflectors.close()
        if self.services:
            self.services.close()
        if self.controller:
            self.controller.close()
        for agent in self.agents:
            agent.close()
        if self._server:
            self._server.close()


def epoch_file(var: Path) -> Path:
    """Where the moment of loading is kept, so that agents and history agree."""
    return var / "lab.json"


def read_epoch(var: Path) -> float:
    """The moment that the demonstration was loaded; now, if it never was."""
    try:
        return float(json.loads(epoch_file(var).read_text())["epoch"])
    except (OSError, ValueError, KeyError):
        return time.time()
