"""A stand-in controller of the county's overlay: its members, transports, tunnels, policies and alarms as JSON over HTTPS."""

import json
import ssl
import tempfile
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from lab.device import Device
from lab.scenario import Box, Port
from lab.services import certificate

ADDRESS, PORT = "127.0.250.2", 8444
NAME = "overlay.oskelund.example"
USER, PASSWORD, TOKEN = "lumtar", "overlay-read", "c0untyOverlay"
PAGE = 10
HUBS = {"wan1": "cen-wan-1", "wan2": "dep-wan-1"}
"""Where the tunnels over each transport of a branch lead to."""
LINES = {"wan1": "A", "wan2": "B"}
PREFERRED = {"voice": "A", "catalogue": "A", "copies": "B"}
"""The transport that each service class takes first."""


@dataclass(slots=True)
class Manner:
    """How the controller behaves."""

    slow_s: float = 0.0
    status: int = 200
    garbage: bool = False
    half: bool = False
    preferred: dict[str, str] = field(default_factory=lambda: dict(PREFERRED))
    changed: dict[str, float] = field(default_factory=dict)


def is_member(box: Box) -> bool:
    """Whether the overlay has this box."""
    return box.family == "wan" and any(port.name in HUBS for port in box.ports)


class Controller:
    """The controller, in threads of its own. It is told of boxes by their agents, and knows when one is out of reach."""

    def __init__(
        self, devices: Mapping[str, Device], pem: tuple[bytes, bytes], address: str = ADDRESS, port: int = PORT
    ) -> None:
        self.manner = Manner()
        self._devices = {name: device for name, device in devices.items() if is_member(device.box)}
        self._server = ThreadingHTTPServer((address, port), _handler(self))
        self._server.daemon_threads = True
        self.port = self._server.server_address[1]
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        with tempfile.NamedTemporaryFile() as file:
            file.write(b"".join(pem))
            file.flush()
            context.load_cert_chain(file.name)
        # The handshake is the affair of each connection's own thread, so that nobody keeps others waiting.
        self._server.socket = context.wrap_socket(
            self._server.socket, server_side=True, do_handshake_on_connect=False
        )  # fmt: skip
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.1,), daemon=True)
        self._thread.start()

    def rows(self, path: str) -> list[dict[str, Any]] | None:
        """What is told at a path."""
        return {
            "/api/edges": self._edges, "/api/lines": self._lines, "/api/tunnels": self._tunnels,
            "/api/policies": self._policies, "/api/events": self._events,
        }.get(path, lambda: None)()  # fmt: skip

    def _edges(self) -> list[dict[str, Any]]:
        told = [
            {
                "uuid": f"edge-{device.box.seed:08x}", "hostname": name, "management": {"ip": device.box.address},
                "chassis": {"serial": f"{device.box.seed:08X}", "type": "TB-40 branch router"}, "place": device.box.site,
                "health": "unreachable" if device.silent else "online",
            }
            for name, device in self._devices.items()
        ]  # fmt: skip
        return told[: len(told) // 2] if self.manner.half else told

    def _ends(self) -> list[tuple[Device, Port, str]]:
        """Device, port and hub of every tunnel."""
        return [
            (device, port, HUBS[port.name])
            for name, device in self._devices.items()
            for port in device.box.ports
            if port.name in HUBS and name not in HUBS.values()
        ]

    def _lines(self) -> list[dict[str, Any]]:
        return [
            {
                "uuid": f"line-{device.box.name}-{port.name}", "label": f"{device.box.site} {LINES[port.name]}", "edge": f"edge-{device.box.seed:08x}",
                "port": port.name, "carrier": f"Transport {LINES[port.name]}", "state": "up" if device.is_up(port.index, port.up) else "down",
            }
            for device, port, _ in self._ends()
        ]  # fmt: skip

    def _is_open(self, device: Device, port: Port, hub: str) -> bool:
        return device.is_up(port.index, port.up) and not device.silent and not self._devices[hub].silent

    def _tunnels(self) -> list[dict[str, Any]]:
        return [
            {
                "uuid": f"tunnel-{device.box.name}-{port.name}", "label": f"{device.box.name} {port.name} – {hub}",
                "near": {"edge": f"edge-{device.box.seed:08x}", "port": port.name}, "far": {"edge": f"edge-{self._devices[hub].box.seed:08x}"},
                "line": f"line-{device.box.name}-{port.name}", "state": "established" if self._is_open(device, port, hub) else "down",
            }
            for device, port, hub in self._ends()
        ]  # fmt: skip

    def _policies(self) -> list[dict[str, Any]]:
        return [
            {
                "uuid": f"policy-{name}", "title": f"Prefer {line} for {name}", "match": name, "use": f"Transport {line}",
                "edited": {"at": self.manner.changed.get(name), "by": "ines" if name in self.manner.changed else "setup"},
            }
            for name, line in self.manner.preferred.items()
        ]  # fmt: skip

    def _events(self) -> list[dict[str, Any]]:
        told = [
            {
                "id": f"lost-{name}", "edge": f"edge-{device.box.seed:08x}", "level": "critical", "message": f"Lost contact with {name}",
                "open": True,
            }
            for name, device in self._devices.items()
            if device.silent
        ]  # fmt: skip
        return told + [
            {
                "id": f"tunnel-{device.box.name}-{port.name}", "edge": f"edge-{device.box.seed:08x}", "tunnel": f"tunnel-{device.box.name}-{port.name}",
                "level": "major", "message": f"Tunnel {device.box.name} {port.name} to {hub} is down", "open": True,
            }
            for device, port, hub in self._ends()
            if not self._is_open(device, port, hub)
        ]  # fmt: skip

    def close(self) -> None:
        """Stop."""
        self._server.shutdown()
        self._server.server_close()
        self._thread.join(2.0)


def _handler(controller: Controller) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        """Answers requests."""

        protocol_version = "HTTP/1.1"
        timeout = 20

        def do_POST(self) -> None:
            """Sign somebody in."""
            given = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            try:
                is_known = json.loads(given) == {"user": USER, "password": PASSWORD}
            except ValueError:
                is_known = False
            if urlsplit(self.path).path != "/api/session" or not is_known:
                self._say(401, {"error": "who are you?"})
            else:
                self._say(200, {"data": {"token": TOKEN}})

        def do_GET(self) -> None:
            """Tell a page of a list."""
            manner, asked = controller.manner, urlsplit(self.path)
            time.sleep(manner.slow_s)
            rows = controller.rows(asked.path)
            if self.headers.get("X-Overlay-Token") != TOKEN:
                self._say(401, {"error": "sign in first"})
            elif manner.status != 200:
                self._say(manner.status, {"error": "not now"})
            elif rows is None:
                self._say(404, {"error": "there is nothing here"})
            elif manner.garbage:
                self._send(200, b'{"data": {"items": [{"uuid": "edge-\x00')
            else:
                page = int(parse_qs(asked.query).get("page", ["1"])[0])
                more = f"{asked.path}?page={page + 1}" if len(rows) > page * PAGE else None
                self._say(200, {"data": {"items": rows[(page - 1) * PAGE : page * PAGE]}, "next": more})

        def _say(self, status: int, told: object) -> None:
            self._send(status, json.dumps(told).encode())

        def _send(self, status: int, body: bytes) -> None:
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: Any) -> None:
            """Nothing."""

    return Handler


def kept_certificate(var: Path, days: float = 365.0) -> tuple[bytes, bytes]:
    """Its certificate and key, which are made once, so that whoever trusts it can go on doing so."""
    chain, key = var / "controller.pem", var / "controller.key"
    if not chain.exists() or not key.exists():
        var.mkdir(parents=True, exist_ok=True)
        for path, data in zip((chain, key), certificate(days, NAME, ADDRESS), strict=True):
            path.touch(mode=0o600)
            path.write_bytes(data)
    return chain.read_bytes(), key.read_bytes()


PROFILE: dict[str, Any] = {
    "sign_in": {
        "way": "session", "path": "/api/session", "user_field": "user", "password_field": "password", "token": "$.data.token",
        "header": "X-Overlay-Token",
    },
    "lists": {
        "device": {
            "path": "/api/edges",
            "fields": {
                "id": "$.uuid", "name": "$.hostname", "address": "$.management.ip", "serial": "$.chassis.serial", "model": "$.chassis.type",
                "site": "$.place", "state": "$.health",
            },
        },
        "transport": {
            "path": "/api/lines",
            "fields": {
                "id": "$.uuid", "name": "$.label", "device": "$.edge", "provider": "$.carrier", "interface": "$.port", "state": "$.state",
            },
        },
        "tunnel": {
            "path": "/api/tunnels",
            "fields": {
                "id": "$.uuid", "name": "$.label", "device": "$.near.edge", "peer": "$.far.edge", "transport": "$.line",
                "interface": "$.near.port", "state": "$.state",
            },
        },
        "policy": {
            "path": "/api/policies",
            "fields": {
                "id": "$.uuid", "name": "$.title", "about": "$.match", "transport": "$.use", "changed": "$.edited.at",
                "changed_by": "$.edited.by",
            },
        },
        "alarm": {
            "path": "/api/events",
            "fields": {
                "id": "$.id", "text": "$.message", "device": "$.edge", "tunnel": "$.tunnel", "severity": "$.level",
            },
        },
    },
}  # fmt: skip
"""How it is asked, as somebody would set it up."""
for each in PROFILE["lists"].values():
    each.update(rows="$.data.items[*]", next_page="$.next", up=[])
