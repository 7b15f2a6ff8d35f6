"""How long a web service takes for an answer, part by part, whether it is the one that is expected, and how long its certificate lasts."""

import asyncio
import ipaddress
import socket
import ssl
import time
from datetime import UTC, datetime
from functools import cache
from typing import Any
from urllib.parse import urlsplit

import httpx
from cryptography import x509

from lumtar.wire.connecting_faults import Untrusted, connecting, connecting_fault
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.ip_options import TRAFFIC_CLASS, family_of
from lumtar.wire.probes.asking import TIMEOUT_S, Asked, Target, microseconds

MOST_OCTETS = 1 << 20
"""Of an answer; what comes beyond is not read."""
FIRST_ERROR = 400
STAMPS = {
    "connection.connect_tcp.complete": "connected",
    "connection.start_tls.complete": "secured",
    "http11.receive_response_headers.complete": "first_octet",
}


async def ask(target: Target) -> Asked:
    """Get a page once, over a connection of its own; redirections are not followed.

    Raises
    ------
    Fault
    """
    url = urlsplit(target.asked)
    host, port = url.hostname or "", url.port or (443 if url.scheme == "https" else 80)
    with connecting(port, TIMEOUT_S):
        async with asyncio.timeout(TIMEOUT_S):
            since = time.perf_counter()
            address = target.address or await _looked_up(host, port)
            lookup = microseconds(since)
            try:
                asked = await _get(target, address, host, port, verifies=target.verifies)
            except Untrusted as error:
                # How long it takes, and when the certificate ends, is of interest all the same.
                asked = await _get(target, address, host, port, verifies=False)
                asked.wrong = f"its certificate is not trusted: {error}"
    if not target.address:
        asked.parts["lookup"] = lookup
    return asked


async def _looked_up(host: str, port: int) -> str:
    try:
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except socket.gaierror as error:
        raise Fault(FaultKind.UNREACHABLE, f"the name {host} cannot be looked up ({error.strerror})") from error
    return str(found[0][4][0])


async def _get(target: Target, address: str, host: str, port: int, *, verifies: bool) -> Asked:
    made = Asked()
    stamps: dict[str, float] = {}

    async def note(event: str, info: dict[str, Any]) -> None:
        if event in STAMPS:
            stamps[STAMPS[event]] = microseconds(since)
        if event == "connection.start_tls.complete":
            made.certificate_days = _days_left(info["return_value"])

    option = TRAFFIC_CLASS[family_of(address)]
    transport = httpx.AsyncHTTPTransport(
        verify=_context(verifies), trust_env=False, socket_options=[(*option, target.traffic_class)]
    )
    # The connection goes to the address, while the name is what the server and its certificate are asked for.
    place = httpx.URL(target.asked).copy_with(host=address, port=port)
    extensions = {"trace": note, "timeout": dict.fromkeys(("connect", "read", "write", "pool"), TIMEOUT_S)}
    if not _is_address(host):
        extensions["sni_hostname"] = host
    headers = {"Host": urlsplit(target.asked).netloc, "User-Agent": "Lumtar", "Accept": "*/*"}
    async with transport:
        # What this machine needs to get ready is no part of it.
        since = time.perf_counter()
        try:
            answer = await transport.handle_async_request(
                httpx.Request("GET", place, headers=headers, extensions=extensions)
            )
            body = await _body(answer)
        except httpx.ConnectError as error:
            raise connecting_fault(error, port) from error
        except httpx.TimeoutException as error:
            raise TimeoutError from error
        except httpx.HTTPError as error:
            raise Fault(FaultKind.GARBLED, f"its answer cannot be understood ({error})") from error
    made.took_us = microseconds(since)
    made.parts = _lasted(stamps)
    made.wrong = _wrong(answer.status_code, body, target.expected)
    return made


@cache
def _context(verifies: bool) -> ssl.SSLContext:
    """How TLS is spoken; made once, since all authorities that this machine trusts are read for it."""
    context = ssl.create_default_context()
    if not verifies:
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    return context


async def _body(answer: httpx.Response) -> bytes:
    parts, size = [], 0
    async for part in answer.aiter_raw():
        parts.append(part)
        size += len(part)
        if size >= MOST_OCTETS:
            break
    await answer.aclose()
    return b"".join(parts)[:MOST_OCTETS]


def _lasted(stamps: dict[str, float]) -> dict[str, float]:
    """How long each part lasted, from when each was done."""
    found, before = {}, 0.0
    for name, at in sorted(stamps.items(), key=lambda each: each[1]):
        found[name], before = at - before, at
    return found


def _days_left(stream: Any) -> float | None:
    secured = stream.get_extra_info("ssl_object")
    der = secured.getpeercert(binary_form=True) if secured else None
    if not der:
        return None
    ends = x509.load_der_x509_certificate(der).not_valid_after_utc
    return (ends - datetime.now(UTC)).total_seconds() / 86400


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _wrong(status: int, body: bytes, expected: str) -> str:
    if status >= FIRST_ERROR:
        return f"it answers with status {status}"
    if expected and expected.encode() not in body:
        return f"its answer (status {status}) does not contain “{expected[:60]}”"
    return ""
