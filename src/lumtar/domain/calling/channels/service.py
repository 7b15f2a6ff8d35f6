"""Chats, text messages, web hooks and whatever else the apprise package speaks, by the address of a service."""

import logging
import re
from typing import Any
from urllib.parse import urlsplit

import apprise

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal
from lumtar.domain.calling.channels.reach import check_hosts
from lumtar.domain.calling.channels.registry import Blank, Channel, Message, Target, Undelivered, register

# What it writes down may hold an address with its secrets.
logging.getLogger("apprise").addHandler(logging.NullHandler())
logging.getLogger("apprise").propagate = False
TIMEOUT_S = 8.0
TYPES = {
    Severity.CLEARED: apprise.NotifyType.SUCCESS,
    Severity.INDETERMINATE: apprise.NotifyType.INFO,
    Severity.WARNING: apprise.NotifyType.INFO,
    Severity.MINOR: apprise.NotifyType.WARNING,
    Severity.MAJOR: apprise.NotifyType.WARNING,
    Severity.CRITICAL: apprise.NotifyType.FAILURE,
}


def _plugin(target: Target) -> Any:
    """The service of an address, which may be sent to.

    Raises
    ------
    Refusal
    """
    url = target.get("url", "").strip()
    plugin = apprise.Apprise.instantiate(url, suppress_exceptions=True) if url else None
    if plugin is None:
        raise Refusal(
            "This is no address of a service that is known; a web hook is json://host:port/path (jsons:// with TLS).",
            "target",
        )
    hosts = _hosts(plugin)
    if not hosts:
        raise Refusal("It cannot be told to which host this service sends, so it cannot be allowed.", "target")
    check_hosts(hosts)
    # Where somebody is redirected to was not allowed by anybody.
    plugin.redirects = False
    plugin.socket_connect_timeout = plugin.socket_read_timeout = TIMEOUT_S
    return plugin


def _hosts(plugin: Any) -> set[str]:
    """The hosts that a service speaks to: the one in its address, or those that are written down in it."""
    if host := getattr(plugin, "host", None):
        return {str(host)}
    urls = [str(value) for name, value in vars(type(plugin)).items() if name.endswith("url") and isinstance(value, str)]
    hosts = {urlsplit(re.sub(r"\{\w*\}|%s", "x", url)).hostname for url in urls if "://" in url}
    return {host for host in hosts if host}


def _check(target: Target) -> str:
    # What follows the question mark are settings, most of them standard ones.
    return str(_plugin(target).url(privacy=True)).partition("?")[0][:300]


def _send(target: Target, message: Message) -> str:
    try:
        plugin = _plugin(target)
    except Refusal as error:
        raise Undelivered(error.sentence, again=False) from error
    if isinstance(getattr(plugin, "headers", None), dict):
        # A web hook can tell by it that the same message comes twice.
        plugin.headers["Idempotency-Key"] = message.key
    body = message.text + (f"\n{message.link}" if message.link else "")
    with apprise.LogCapture(level=logging.WARNING, fmt="%(message)s") as said:  # type: ignore[no-untyped-call]
        is_sent = plugin.notify(body=body, title=message.subject, notify_type=TYPES[message.severity])
        words = " ".join(said.getvalue().split())
    if not is_sent:
        for secret in target.values():
            words = words.replace(secret, "…")
        raise Undelivered(f"The service did not take it: {words or 'no reason given'}")
    return "accepted by the service"


register(
    Channel(
        "service",
        "Chat, text message or web hook",
        (Blank("url", "Address of the service", "json://host:port/path for a web hook", is_secret=True),),
        _check,
        _send,
    )
)
