"""How long a name server takes for an answer (RFC 1035), and whether it is the one that is expected."""

import time

import dns.asyncquery
import dns.exception
import dns.message
import dns.name
import dns.rcode

from lumtar.wire.connecting_faults import connecting
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.probes.asking import TIMEOUT_S, Asked, Target, microseconds


async def ask(target: Target) -> Asked:
    """Ask for a name and a type, such as ``films.example A``; by TCP again if the answer does not fit into a datagram.

    Raises
    ------
    Fault
    """
    name, _, kind = target.asked.partition(" ")
    try:
        query = dns.message.make_query(name, kind or "A")
    except dns.exception.DNSException as error:
        raise Fault(FaultKind.GARBLED, f"{name} cannot be asked for: {error}") from error
    since = time.perf_counter()
    with connecting(target.port, TIMEOUT_S):
        try:
            answer, _ = await dns.asyncquery.udp_with_fallback(
                query, target.address, timeout=TIMEOUT_S, port=target.port, ignore_unexpected=True
            )
        except dns.exception.Timeout as error:
            raise TimeoutError from error
        except (dns.exception.DNSException, EOFError) as error:
            raise Fault(FaultKind.GARBLED, f"its answer cannot be understood ({type(error).__name__})") from error
    return Asked(microseconds(since), wrong=_wrong(answer, target.expected))


def _wrong(answer: dns.message.Message, expected: str) -> str:
    if answer.rcode() != dns.rcode.NOERROR:
        return f"it answers {dns.rcode.to_text(answer.rcode())}"
    found = [str(item).strip('"') for each in answer.answer for item in each]
    if not found:
        return "it has no such record"
    if expected and expected.rstrip(".") not in [each.rstrip(".") for each in found]:
        return f"it answers {', '.join(found)[:120]}, not {expected}"
    return ""
