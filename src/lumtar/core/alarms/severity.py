"""Perceived severity (RFC 8632 section 3.3, ITU-T X.733)."""

from enum import IntEnum


class Severity(IntEnum):
    """In rising order, so that the worst is the greatest."""

    CLEARED = 0
    INDETERMINATE = 1
    WARNING = 2
    MINOR = 3
    MAJOR = 4
    CRITICAL = 5

    @property
    def word(self) -> str:
        """The word of the standard."""
        return self.name.lower()
