"""What devices measure by themselves and tell in tables of their makers' own. Tests of RFC 4560 are paths instead (core/paths)."""

from lumtar.core.components.registry import ComponentKind, register

for name, words, unit in (
    ("test delay", "a device's own test: delay", "ms"),
    ("test jitter", "a device's own test: jitter", "ms"),
    ("test loss", "a device's own test: loss", "%"),
):
    register(ComponentKind(name, words, None, (), lambda rows: [], unit=unit, chart=name))
