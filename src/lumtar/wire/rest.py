"""Asking a controller over HTTP or HTTPS for JSON documents (RFC 8259), within bounds of time and size."""

import asyncio
import json
import ssl
from collections.abc import Mapping
from types import TracebackType
from typing import Any, Self
from urllib.parse import urljoin, urlsplit

import httpx

from lumtar.core.controllers import Listing, ListKind, SignIn, Told, read_rows
from lumtar.wire import json_paths
from lumtar.wire.connecting_faults import Untrusted, connecting, connecting_fault
from lumtar.wire.faults import Fault, FaultKind

ANSWER_S = 15.0
"""Seconds within which an answer has to be there as a whole."""
MOST_OCTETS = 16 << 20
MOST_PAGES = 200
HEADERS = {"User-Agent": "Lumtar", "Accept": "application/json"}
DENIED = (401, 403)


class Rest:
    """A controller that is asked for lists. Use it as an asynchronous context manager.

    Parameters
    ----------
    base : its address, such as ``https://192.0.2.7:8443``; only there is asked
    authority : certificates in PEM of whom it is trusted by; empty for those that this machine trusts
    """

    def __init__(self, base: str, sign_in: SignIn, secret: Mapping[str, str], authority: str = "") -> None:
        self._base, self._sign_in, self._secret = base.rstrip("/"), sign_in, secret
        parts = urlsplit(self._base)
        self._port = parts.port or (443 if parts.scheme == "https" else 80)
        auth = httpx.BasicAuth(secret["user"], secret["password"]) if sign_in.way == "basic" else None
        # Certificates and proxies that the machine's environment names are not what somebody set up here.
        self._client = httpx.AsyncClient(
            auth=auth, headers=HEADERS, trust_env=False, verify=_context(authority), timeout=ANSWER_S,
            follow_redirects=False,
        )  # fmt: skip

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._client.aclose()

    async def sign_in(self) -> None:
        """Sign in, where that comes before everything else.

        Raises
        ------
        Fault
        """
        way, header = self._sign_in.way, self._sign_in.header
        if way in ("bearer", "header"):
            self._carry(self._secret["token"], header if way == "header" else "")
        if way != "session":
            return
        given = {
            self._sign_in.user_field: self._secret["user"],
            self._sign_in.password_field: self._secret["password"],
        }
        answer = await self._ask("POST", self._sign_in.path, given)
        if self._sign_in.token:
            token = json_paths.first(answer, self._sign_in.token)
            if not isinstance(token, str) or not token.isprintable() or not token:
                raise Fault(FaultKind.GARBLED, f"signing in gave no token at {self._sign_in.token}")
            self._carry(token, header)

    def _carry(self, token: str, header: str) -> None:
        self._client.headers[header or "Authorization"] = token if header else f"Bearer {token}"

    async def read(self, kind: ListKind, listing: Listing) -> Told:
        """A list, page by page.

        Raises
        ------
        Fault
        """
        found: list[dict[str, Any]] = []
        path, asked = listing.path, set[str]()
        while path and len(asked) < MOST_PAGES:
            asked.add(path)
            document = await self._ask("GET", path)
            # Thousands of rows take a while, and others wait for this loop.
            found += await asyncio.to_thread(json_paths.rows, document, listing)
            path = self._next(json_paths.first(document, listing.next_page), path) if listing.next_page else ""
            if path in asked:
                raise Fault(FaultKind.LOOP, f"its pages of {kind.words} lead back to {path}")
        if path:
            raise Fault(FaultKind.TOO_MUCH, f"it has more than {MOST_PAGES} pages of {kind.words}")
        return await asyncio.to_thread(read_rows, kind, found)

    def _next(self, told: object, path: str) -> str:
        """The next page as a path at the same place; elsewhere what was entered for this one would be given away."""
        if not isinstance(told, str) or not told:
            return ""
        place = urljoin(self._base + path, told)
        if not place.startswith(self._base + "/"):
            raise Fault(FaultKind.REFUSED, f"its next page is somewhere else ({place[:100]})")
        return place.removeprefix(self._base)

    async def _ask(self, method: str, path: str, body: Mapping[str, str] | None = None) -> Any:
        try:
            with connecting(self._port, ANSWER_S):
                async with asyncio.timeout(ANSWER_S):
                    octets = await self._octets(method, path, body)
        except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
            raise Fault(FaultKind.GARBLED, f"what it says at {path} is no HTTP ({type(error).__name__})") from error
        try:
            return await asyncio.to_thread(json.loads, octets)
        except (ValueError, RecursionError) as error:
            raise Fault(FaultKind.GARBLED, f"what it says at {path} is no JSON") from error

    async def _octets(self, method: str, path: str, body: Mapping[str, str] | None) -> bytes:
        try:
            async with self._client.stream(method, self._base + path, json=body) as answer:
                return await _body(answer, path)
        except httpx.ConnectError as error:
            cause = connecting_fault(error, self._port)
            if isinstance(cause, Untrusted):
                cause = Fault(FaultKind.REFUSED, f"its certificate is not trusted: {cause}")
            raise cause from error
        except httpx.TimeoutException as error:
            raise TimeoutError from error


def _context(authority: str) -> ssl.SSLContext:
    """Whom to trust.

    Raises
    ------
    Fault
    """
    try:
        return ssl.create_default_context(cadata=authority or None)
    except (ssl.SSLError, ValueError) as error:
        raise Fault(FaultKind.CREDENTIAL, "the certificates that it is trusted by are not to be read as PEM") from error


async def _body(answer: httpx.Response, path: str) -> bytes:
    if answer.status_code in DENIED:
        raise Fault(FaultKind.CREDENTIAL, f"it refuses what was entered to sign in (status {answer.status_code})")
    if answer.is_redirect:
        raise Fault(FaultKind.REFUSED, f"it sends {path} elsewhere ({answer.headers['location'][:100]})")
    if not answer.is_success:
        raise Fault(FaultKind.ERROR_STATUS, f"it answers {path} with status {answer.status_code}")
    parts, size = [], 0
    async for part in answer.aiter_bytes():
        parts.append(part)
        size += len(part)
        if size > MOST_OCTETS:
            raise Fault(FaultKind.TOO_MUCH, f"its answer to {path} is larger than {MOST_OCTETS >> 20} MiB")
    return b"".join(parts)
