"""Figures with units for sentences: bits for rates, 1 k = 1,000."""

STEPS = ((1e12, "T"), (1e9, "G"), (1e6, "M"), (1e3, "k"))


def rate(bps: float) -> str:
    """A rate such as ``281.7 Mb/s``."""
    for size, prefix in STEPS:
        if abs(bps) >= size:
            return f"{bps / size:.4g} {prefix}b/s"
    return f"{bps:.3g} b/s"


def figure(value: float, unit: str) -> str:
    """A value with its unit, such as ``93 %``, ``281.7 Mb/s`` or ``12.5 ms``."""
    if unit == "bit/s":
        return rate(value)
    if unit == "octets":
        for size, prefix in STEPS:
            if abs(value) >= size:
                return f"{value / size:.4g} {prefix}B"
        return f"{value:.4g} B"
    number = f"{value:.0f}" if abs(value) >= 100 or value == int(value) else f"{value:.1f}"
    return f"{number} {unit}".rstrip()


def duration(seconds: float) -> str:
    """A length of time in its largest whole unit, such as ``12 minutes``."""
    for size, name in ((86400, "day"), (3600, "hour"), (60, "minute"), (1, "second")):
        if seconds >= size or size == 1:
            number = int(seconds // size)
            return f"{number} {name}{'' if number == 1 else 's'}"
    raise AssertionError("unreachable")


def counted(number: int, one: str, many: str = "") -> str:
    """A number with its noun: small numbers as words, as in running text."""
    words = ("No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve")
    word = words[number] if number < len(words) else f"{number:,}"
    return f"{word} {one if number == 1 else many or one + 's'}"
