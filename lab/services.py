"""Stand-in services to be probed: a catalogue over HTTPS, a film portal over HTTP, name servers, an echo; each can be made slow or fail."""

import asyncio
import ipaddress
import ssl
import tempfile
import threading
import time
from collections.abc import Callable, Coroutine
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

import dns.message
import dns.rcode
import dns.rrset
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from lab.incidents import SLOW_SERVERS

ADDRESS = "127.0.250.1"


class Ports(NamedTuple):
    """Where the services listen."""

    https: int = 8943
    http: int = 8980
    names: int = 8953
    echo: int = 8907


PORTS = Ports()
CERTIFICATE_DAYS = 16
"""The catalogue's certificate ends so soon after the demonstration begins."""
NAMES = {"catalogue.oskelund.example.": "10.0.10.201", "films.oskelund.example.": "10.0.10.202"}


@dataclass(slots=True)
class Condition:
    """How a service does just now."""

    usual_ms: float
    ms: float
    status: int = 200
    is_off: bool = False


def conditions() -> dict[str, Condition]:
    """Every service, as it usually is."""
    usual = {"catalogue": 38.0, "films": 12.0, "names": 1.5, "echo": 0.4}
    return {name: Condition(ms, ms) for name, ms in usual.items()}


class Services:
    """All of them, in a thread of their own."""

    def __init__(
        self,
        address: str = ADDRESS,
        ports: Ports = PORTS,
        certificate_days: float = CERTIFICATE_DAYS,
        epoch: float | None = None,
    ) -> None:
        self.address, self.ports, self._days, self._epoch = address, ports, certificate_days, epoch
        self.conditions = conditions()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, name="services", daemon=True)
        self._ready = threading.Event()
        self._ending: asyncio.Event | None = None
        self._answering: set[asyncio.Task[Any]] = set()
        self._thread.start()
        if not self._ready.wait(30):
            raise RuntimeError("the stand-in services did not start; somebody may hold one of their ports")

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_until_complete(self._serve())

    async def _serve(self) -> None:
        self._ending = asyncio.Event()
        secured = _context(self._days)
        servers = [
            await asyncio.start_server(self._web("catalogue"), self.address, self.ports.https, ssl=secured),
            await asyncio.start_server(self._web("films"), self.address, self.ports.http),
        ]
        outlets = [
            (
                await self._loop.create_datagram_endpoint(
                    lambda: _Datagrams(self._named), (self.address, self.ports.names)
                )
            )[0],
            (
                await self._loop.create_datagram_endpoint(
                    lambda: _Datagrams(self._echoed), (self.address, self.ports.echo)
                )
            )[0],
        ]
        self._ready.set()
        await self._ending.wait()
        for each in self._answering:
            each.cancel()
        await asyncio.gather(*self._answering, return_exceptions=True)
        for server in servers:
            server.close()
        for outlet in outlets:
            outlet.close()

    def _web(self, name: str) -> Callable[[asyncio.StreamReader, asyncio.StreamWriter], Coroutine[Any, Any, None]]:
        async def answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            task = asyncio.current_task()
            if task:
                self._answering.add(task)
                task.add_done_callback(self._answering.discard)
            try:
                await reader.readuntil(b"\r\n\r\n")
                state = self.conditions[name]
                await asyncio.sleep(600 if state.is_off else max(state.ms, self._slow_ms(name)) / 1000)
                body = f"<title>County of Oskelund: {name}</title>".encode()
                head = f"HTTP/1.1 {state.status} X\r\nContent-Length: {len(body)}\r\nConnection: close\r\n\r\n"
                writer.write(head.encode() + body)
                await writer.drain()
            except (OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError):
                pass
            finally:
                writer.close()

        return answer

    def _slow_ms(self, name: str) -> float:
        """The catalogue is as slow as its server is in the scenario."""
        if name != "catalogue" or self._epoch is None:
            return 0.0
        since = time.time() - self._epoch
        return max((each.ms for each in SLOW_SERVERS if each.start <= since < each.end), default=0.0)

    def _named(self, data: bytes, reply: Callable[[bytes], None]) -> None:
        query = dns.message.from_wire(data)
        answer = dns.message.make_response(query)
        name = query.question[0].name.to_text().lower()
        if name in NAMES:
            answer.answer.append(dns.rrset.from_text(name, 60, "IN", "A", NAMES[name]))
        else:
            answer.set_rcode(dns.rcode.NXDOMAIN)
        self._later("names", answer.to_wire(), reply)

    def _echoed(self, data: bytes, reply: Callable[[bytes], None]) -> None:
        self._later("echo", data, reply)

    def _later(self, name: str, data: bytes, reply: Callable[[bytes], None]) -> None:
        state = self.conditions[name]
        if not state.is_off:
            self._loop.call_later(state.ms / 1000, reply, data)

    def close(self) -> None:
        """Stop."""
        if self._ending:
            self._loop.call_soon_threadsafe(self._ending.set)
        self._thread.join(2.0)


class _Datagrams(asyncio.DatagramProtocol):
    """Answers datagrams."""

    def __init__(self, answer: Callable[[bytes, Callable[[bytes], None]], None]) -> None:
        self._answer = answer
        self._transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: Any) -> None:
        """It listens."""
        self._transport = transport

    def datagram_received(self, data: bytes, addr: Any) -> None:
        """Somebody asks."""
        transport = self._transport
        if transport:
            self._answer(data, lambda answer: transport.sendto(answer, addr))


def certificate(days: float, called: str = "catalogue.oskelund.example", address: str = ADDRESS) -> tuple[bytes, bytes]:
    """A certificate of its own for a name and an address that ends after so many days, and its key, as PEM."""
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, called)])
    names = [x509.DNSName(called), x509.IPAddress(ipaddress.ip_address(address))]
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=365))
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .sign(key, hashes.SHA256())
    )
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    return made.public_bytes(serialization.Encoding.PEM), private


def _context(days: float) -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory() as folder:
        chain, key = (Path(folder) / name for name in ("chain.pem", "key.pem"))
        for path, data in zip((chain, key), certificate(days), strict=True):
            path.write_bytes(data)
        context.load_cert_chain(chain, key)
    return context
