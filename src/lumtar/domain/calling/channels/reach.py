"""Where messages may go: the addresses and names that an administrator allowed."""

import socket
from collections.abc import Iterable
from fnmatch import fnmatchcase

from lumtar.core.reach import may_be_sent
from lumtar.core.refusal import Refusal
from lumtar.domain.calling.models import Destinations


def destinations() -> Destinations:
    """What is allowed; what nobody has set is the standard."""
    return Destinations.objects.first() or Destinations()


def check_hosts(hosts: Iterable[str]) -> None:
    """Whether messages may be sent to these hosts, all of them. Names count by themselves or by what they resolve to now.

    Raises
    ------
    Refusal
    """
    allowed = destinations()
    names = [name.strip().lower() for name in allowed.hosts.replace("\n", ",").split(",") if name.strip()]
    for host in hosts:
        lower = host.lower().strip("[]")
        if any(fnmatchcase(lower, name) for name in names):
            continue
        if not all(may_be_sent(allowed.ranges, address) for address in _addresses(lower)):
            raise Refusal(
                f"Messages may not be sent to {host[:100]}: an administrator has to allow it under Setup, Destinations.",
                "target",
            )


def _addresses(host: str) -> set[str]:
    try:
        return {str(each[4][0]) for each in socket.getaddrinfo(host, None)}
    except OSError as error:
        raise Refusal(f"The name {host[:100]} has no address: {error.strerror or error}.", "target") from error


def host_and_port(target: str, standard: int) -> tuple[str, int]:
    """Host and port of ``host``, ``host:port`` or ``[2001:db8::1]:port``.

    Raises
    ------
    Refusal
    """
    text = target.strip()
    if text.startswith("["):
        host, _, rest = text[1:].partition("]")
        port = rest.removeprefix(":")
    elif text.count(":") == 1:
        host, _, port = text.partition(":")
    else:
        host, port = text, ""
    if not host or (port and not (port.isdecimal() and 0 < int(port) < 65_536)):
        raise Refusal(f"“{text[:100]}” is no host with a port; write it like 192.0.2.7:{standard}.", "target")
    return host, int(port or standard)
