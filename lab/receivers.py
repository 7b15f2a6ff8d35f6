"""Stand-ins for what messages are sent to: web hooks, chats and text-message gateways (HTTP), syslog, and SNMP notifications.

They take what comes, keep it, and fail when they are told to. Everything whose path begins with ``slow`` is answered late, and
whatever is sent to ``moved`` is sent on to ``elsewhere``.
"""

import json
import socketserver
import threading
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from lumtar.wire import ber, pdu
from lumtar.wire.ber import Malformed
from lumtar.wire.notifications import INFORM

SLOW_S = 6.0


@dataclass(frozen=True, slots=True)
class Received:
    """Something that came in: by which way, when, its key if it has one, and what it said."""

    way: str
    at: float
    key: str
    text: str


class Receivers:
    """All of them, on three ports in a row of one loopback address; ``fail_next`` web requests are refused with 503."""

    def __init__(self, port: int, folder: Path | None = None, host: str = "127.0.0.1") -> None:
        self.received: list[Received] = []
        self.fail_next = 0
        self.confirms = True
        self._lock = threading.Lock()
        self._file = folder / "received.jsonl" if folder else None
        if folder:
            folder.mkdir(parents=True, exist_ok=True)
        self._servers: list[socketserver.BaseServer] = [
            ThreadingHTTPServer((host, port), _hook(self)),
            socketserver.ThreadingUDPServer((host, port + 1), _datagrams(self._take_syslog)),
            socketserver.ThreadingUDPServer((host, port + 2), _datagrams(self._take_notification)),
        ]

    def start(self) -> None:
        """Listen, each in a thread of its own."""
        for server in self._servers:
            threading.Thread(target=server.serve_forever, args=(0.1,), daemon=True).start()

    def stop(self) -> None:
        """Listen no more."""
        for server in self._servers:
            server.shutdown()
            server.server_close()

    def refuses(self) -> bool:
        """Whether this request is one of those that are to fail."""
        with self._lock:
            is_refused = self.fail_next > 0
            self.fail_next -= is_refused
            return is_refused

    def keep(self, way: str, key: str, text: str) -> None:
        """Keep what came."""
        received = Received(way, time.time(), key, text)
        with self._lock:
            self.received.append(received)
            if self._file:
                with self._file.open("a") as file:
                    file.write(json.dumps(asdict(received)) + "\n")

    def _take_syslog(self, data: bytes) -> bytes | None:
        self.keep("syslog", "", data.decode(errors="replace"))
        return None

    def _take_notification(self, data: bytes) -> bytes | None:
        """Keep a notification of version 2c, and confirm an inform request."""
        try:
            _, at, _ = ber.read(data, 0, ber.SEQUENCE)
            _, at = ber.read_integer(data, at)
            community, at = ber.read_octets(data, at)
            kind, body, end = ber.read(data, at)
            number, after = ber.read_integer(data, body)
            _, after = ber.read_integer(data, after)
            _, after = ber.read_integer(data, after)
            binds = pdu.read_binds(data, after)
        except Malformed as error:
            self.keep("notification", "", f"malformed: {error}")
            return None
        named = {ber.dotted(oid): value for oid, value in zip(binds.oids, binds.values, strict=True)}
        said = {
            name: value.decode(errors="replace") if isinstance(value, bytes) else value for name, value in named.items()
        }
        self.keep("inform" if kind == INFORM else "trap", str(number), json.dumps(said))
        if kind != INFORM or not self.confirms:
            return None
        return pdu.community_message(community, ber.tlv(pdu.RESPONSE, data[body:end]))


def _hook(receivers: Receivers) -> type[BaseHTTPRequestHandler]:
    class Hook(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            length = min(int(self.headers.get("Content-Length", 0)), 1 << 20)
            text = self.rfile.read(length).decode(errors="replace")
            path = self.path.strip("/")
            if path.startswith("slow"):
                time.sleep(SLOW_S)
            if path == "moved":
                self.send_response(307)
                self.send_header("Location", "/elsewhere")
                self.end_headers()
                return
            if receivers.refuses():
                self.send_response(503)
                self.end_headers()
                return
            receivers.keep(path, self.headers.get("Idempotency-Key", ""), text)
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b"taken")

        def log_message(self, *_: Any) -> None:
            """Nothing: what came is kept."""

    return Hook


def _datagrams(take: Callable[[bytes], bytes | None]) -> type[socketserver.BaseRequestHandler]:
    class Datagrams(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            data, line = self.request
            if (answer := take(data)) is not None:
                line.sendto(answer, self.client_address)

    return Datagrams
