"""What firewalls and VPN gateways tell beneath their makers' own numbers: tunnels, sessions, what was dropped, the pair's state.

No standard table has these, so each is read by an object of a profile that says what it is.
"""

from lumtar.core.components.registry import ComponentKind, register

TUNNEL_WORDS = {1: "up", 2: "down"}
PAIR_WORDS = {1: "active", 2: "standby", 3: "not ready"}


register(
    ComponentKind(
        "tunnel", "tunnel (IPsec, TLS)", None, (), lambda rows: [], is_read_often=True, states=TUNNEL_WORDS,
        good=frozenset((1,)),
    )
)  # fmt: skip
register(
    ComponentKind(
        "pair", "firewall of a pair", None, (), lambda rows: [], is_read_often=True, states=PAIR_WORDS, good=frozenset((1, 2))
    )
)  # fmt: skip
for name, words, unit, counts, scale in (
    ("tunnel age", "tunnel: up for", "s", False, 1.0),
    ("tunnel rekeys", "tunnel: keys renewed", "/h", True, 3600.0),
    ("tunnel in", "tunnel: octets in", "bit/s", True, 8.0),
    ("tunnel out", "tunnel: octets out", "bit/s", True, 8.0),
    ("sessions", "sessions", "", False, 1.0),
    ("session rate", "sessions begun", "/s", True, 1.0),
    ("threats", "threats found", "/min", True, 60.0),
    ("drops", "packets dropped", "/s", True, 1.0),
):
    register(
        ComponentKind(
            name, words, None, (), lambda rows: [], is_read_often=name == "sessions", unit=unit, counts=counts, scale=scale,
            chart=name,
        )
    )  # fmt: skip
register(
    ComponentKind(
        "session share", "sessions, of the limit", None, (), lambda rows: [], is_read_often=True, unit="%", is_share=True
    )
)  # fmt: skip
