"""SNMP notifications of the Alarm MIB (RFC 3877): alarmActiveState and alarmClearState, as inform requests or traps."""

import secrets as random
import socket
import time

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.calling.channels.reach import check_hosts, host_and_port
from lumtar.domain.calling.channels.registry import Blank, Channel, Message, Target, Told, Undelivered, register
from lumtar.wire import ber
from lumtar.wire.ber import Malformed
from lumtar.wire.notifications import Bind, is_answer, notification

PORT, TRIES, TIMEOUT_S, LONGEST = 162, 3, 2.0, 400
ACTIVE_STATE, CLEAR_STATE = "1.3.6.1.2.1.118.0.2", "1.3.6.1.2.1.118.0.3"
RESOURCE, DESCRIPTION = "1.3.6.1.2.1.118.1.2.2.1.10", "1.3.6.1.2.1.118.1.2.2.1.11"
"""alarmActiveResourceId and alarmActiveDescription; indexed by list name (none), date and time, and number of the alarm."""
_STARTED = time.monotonic()


def _check(target: Target) -> str:
    host, port = host_and_port(target.get("target", ""), PORT)
    check_hosts([host])
    if not target.get("community", "").strip():
        raise Refusal("The receiver's community is needed.", "target")
    if target.get("confirmed", "yes") not in ("yes", "no"):
        raise Refusal("Say yes or no: whether the receiver confirms (inform) or not (trap).", "target")
    kind = "inform" if _is_confirmed(target) else "trap"
    return f"{kind} to {f'[{host}]' if ':' in host else host}:{port}"


def _is_confirmed(target: Target) -> bool:
    return target.get("confirmed", "yes") == "yes"


def binds(told: Told, key: str) -> list[Bind]:
    """What a notification about an alarm tells."""
    stamp = told.at.timetuple()
    # DateAndTime (RFC 2579) as an index: its length, then its octets, here in UTC.
    date = f"11.{stamp.tm_year >> 8}.{stamp.tm_year & 255}.{'.'.join(map(str, stamp[1:6]))}.0.43.0.0"
    index = f"0.{date}.{told.alarm & 0xFFFFFFFF}"
    kind = CLEAR_STATE if told.severity is Severity.CLEARED else ACTIVE_STATE
    text = f"{told.severity.word}: {told.label}: {told.text} [{key}]"
    return [
        ("1.3.6.1.2.1.1.3.0", ber.integer(int(100 * (time.monotonic() - _STARTED)) & 0xFFFFFFFF, ber.TIME_TICKS)),
        ("1.3.6.1.6.3.1.1.4.1.0", ber.tlv(ber.OBJECT_IDENTIFIER, ber.oid_body(kind))),
        (f"{RESOURCE}.{index}", ber.tlv(ber.OCTET_STRING, told.label.encode()[:255])),
        (f"{DESCRIPTION}.{index}", ber.tlv(ber.OCTET_STRING, text.encode()[:LONGEST])),
    ]


def _send(target: Target, message: Message) -> str:
    try:
        host, port = host_and_port(target["target"], PORT)
        check_hosts([host])
        family, kind, protocol, _, where = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
    except Refusal as error:
        raise Undelivered(error.sentence, again=False) from error
    except OSError as error:
        raise Undelivered(f"{target['target']} has no address: {error.strerror or error}") from error
    confirmed = _is_confirmed(target)
    with socket.socket(family, kind, protocol) as line:
        line.settimeout(TIMEOUT_S)
        try:
            line.connect(where)
            for told in message.alarms:
                number = random.randbits(30)
                packet = notification(
                    target["community"].encode(), number, binds(told, message.key), confirmed=confirmed
                )
                _hand_over(line, packet, number, confirmed)
        except OSError as error:
            raise Undelivered(f"No notification could be sent to {host}: {error.strerror or error}") from error
    return "confirmed by the receiver" if confirmed else "sent as a trap, which is not answered"


def _hand_over(line: socket.socket, packet: bytes, number: int, confirmed: bool) -> None:
    for _ in range(TRIES if confirmed else 1):
        line.send(packet)
        if not confirmed:
            return
        try:
            if is_answer(line.recv(65_535), number):
                return
        except (TimeoutError, Malformed):
            continue
    raise Undelivered(f"The receiver did not confirm in {TRIES} tries.")


register(
    Channel(
        "trap",
        "SNMP notification",
        (
            Blank("target", "Host and port", "192.0.2.7:162", is_where=True),
            Blank("community", "Community", is_secret=True),
            Blank("confirmed", "Confirmed", "yes: inform requests; no: traps", is_required=False),
        ),
        _check,
        _send,
    )
)
