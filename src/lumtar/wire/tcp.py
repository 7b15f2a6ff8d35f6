"""Whether a TCP port is open (RFC 9293): a connection is made, and closed at once."""

import asyncio
import socket
import time

from lumtar.wire.faults import Fault, FaultKind


async def connect(family: socket.AddressFamily, address: str, port: int, timeout: float = 2.0, tries: int = 1) -> float:
    """Seconds until the connection stood.

    Raises
    ------
    Fault
        PORT_CLOSED, NO_ANSWER or UNREACHABLE
    """
    for _ in range(tries):
        began = time.monotonic()
        try:
            async with asyncio.timeout(timeout):
                _, writer = await asyncio.open_connection(address, port, family=family)
        except TimeoutError:
            continue
        except ConnectionRefusedError as error:
            words = f"TCP port {port} is closed: the host answers, but nothing listens there"
            raise Fault(FaultKind.PORT_CLOSED, words) from error
        except OSError as error:
            raise Fault(FaultKind.UNREACHABLE, f"cannot be reached from here ({error.strerror})") from error
        took = time.monotonic() - began
        writer.close()
        return took
    times = f"{tries} tries" if tries > 1 else "one try"
    raise Fault(FaultKind.NO_ANSWER, f"no answer on TCP {port} in {times}")
