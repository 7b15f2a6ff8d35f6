"""Probes of services, by their kind: each asks once, and says how long that took."""

from collections.abc import Awaitable, Callable, Mapping

from lumtar.wire.probes import dns, http, tcp
from lumtar.wire.probes.asking import Asked, Target

Ask = Callable[[Target], Awaitable[Asked]]
ASK: Mapping[str, Ask] = {"tcp": tcp.ask, "dns": dns.ask, "http": http.ask}
"""The registry of probes that are more than a packet (core/paths/kinds.py); they raise a Fault if there is no answer."""
