"""Why a connection could not be made, in plain words."""

import ssl
from collections.abc import Iterator
from contextlib import contextmanager

import httpx

from lumtar.wire.faults import Fault, FaultKind


@contextmanager
def connecting(port: int, within_s: float) -> Iterator[None]:
    """What goes wrong with a connection, as a Fault."""
    try:
        yield
    except TimeoutError as error:
        raise Fault(FaultKind.NO_ANSWER, f"no answer from port {port} within {within_s:.0f} s") from error
    except ConnectionRefusedError as error:
        raise Fault(
            FaultKind.PORT_CLOSED, f"port {port} is closed: the host answers, but nothing listens there"
        ) from error
    except OSError as error:
        raise Fault(FaultKind.UNREACHABLE, f"cannot be reached from here ({error.strerror or error})") from error


class Untrusted(Exception):
    """A certificate that this machine does not trust, and why."""


def connecting_fault(error: httpx.ConnectError, port: int) -> Exception:
    """The fault, :class:`Untrusted`, or error of the system behind what httpx says."""
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ssl.SSLCertVerificationError):
            return Untrusted(cause.verify_message)
        if isinstance(cause, ssl.SSLError):
            return Fault(FaultKind.GARBLED, f"TLS cannot be agreed on ({cause.reason})")
        if isinstance(cause, OSError) and cause.errno:
            return cause
        if isinstance(cause, BaseExceptionGroup):
            cause = cause.exceptions[0]
            continue
        cause = cause.__cause__ or cause.__context__
    return Fault(FaultKind.UNREACHABLE, f"port {port} cannot be reached ({error})")
