"""Syslog (RFC 5424) over UDP (RFC 5426) or TCP (RFC 6587, octet counting)."""

import os
import socket

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.calling.channels.reach import check_hosts, host_and_port
from lumtar.domain.calling.channels.registry import Blank, Channel, Message, Target, Told, Undelivered, register

PORT, TIMEOUT_S, LONGEST = 514, 8.0, 2000
LOCAL0 = 16
LEVELS = {
    Severity.CLEARED: 5,
    Severity.INDETERMINATE: 5,
    Severity.WARNING: 4,
    Severity.MINOR: 4,
    Severity.MAJOR: 3,
    Severity.CRITICAL: 2,
}
"""Perceived severity to the severity of syslog, after RFC 5674, section 2."""


def _parts(target: Target) -> tuple[str, int, bool]:
    words = target.get("target", "").strip().lower()
    protocol, _, rest = words.rpartition("://")
    if protocol not in ("", "udp", "tcp"):
        raise Refusal("Syslog is sent over udp:// or tcp://.", "target")
    return *host_and_port(rest, PORT), protocol == "tcp"


def _check(target: Target) -> str:
    host, port, over_tcp = _parts(target)
    check_hosts([host])
    return f"{'tcp' if over_tcp else 'udp'}://{f'[{host}]' if ':' in host else host}:{port}"


def _quoted(text: str) -> str:
    """The value of a parameter (RFC 5424, section 6.3.3)."""
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")


def line(told: Told, key: str) -> bytes:
    """One syslog message about an alarm, with the alarm as structured data (RFC 5674, section 3)."""
    data = " ".join(
        f'{name}="{_quoted(value)}"'
        for name, value in (
            ("resource", told.label),
            ("probableCause", told.type),
            ("perceivedSeverity", told.severity.word),
            ("alarmId", str(told.alarm)),
        )
    )
    head = f"<{LOCAL0 * 8 + LEVELS[told.severity]}>1 {told.at.isoformat(timespec='milliseconds')} {socket.gethostname()[:255]}"
    kind = "alarm-cleared" if told.severity is Severity.CLEARED else "alarm"
    # A byte order mark says that the text is UTF-8 (section 6.4).
    text = (
        f'{head} lumtar {os.getpid()} {kind} [alarm {data}][origin software="lumtar"][meta key="{_quoted(key)}"] \ufeff'
    )
    return (text + " ".join(f"{told.label}: {told.text}".split())).encode()[:LONGEST]


def _send(target: Target, message: Message) -> str:
    lines = [line(each, message.key) for each in message.alarms]
    try:
        host, port, over_tcp = _parts(target)
        check_hosts([host])
    except Refusal as error:
        raise Undelivered(error.sentence, again=False) from error
    try:
        if over_tcp:
            with socket.create_connection((host, port), TIMEOUT_S) as connection:
                connection.sendall(b"".join(b"%d %s" % (len(each), each) for each in lines))
        else:
            family, kind, protocol, _, where = socket.getaddrinfo(host, port, type=socket.SOCK_DGRAM)[0]
            with socket.socket(family, kind, protocol) as datagrams:
                for each in lines:
                    datagrams.sendto(each, where)
    except OSError as error:
        raise Undelivered(f"{host} does not take syslog on port {port}: {error.strerror or error}") from error
    return f"sent over {'TCP' if over_tcp else 'UDP, which is not answered'}"


register(
    Channel("syslog", "Syslog", (Blank("target", "Host and port", "udp://192.0.2.7:514 or tcp://…"),), _check, _send)
)
