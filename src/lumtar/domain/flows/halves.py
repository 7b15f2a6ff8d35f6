"""Halves of addresses as PostgreSQL keeps them: numbers of 64 bits with a sign."""

from lumtar.core.flows.records import address_text

UNSIGNED = 2**64 - 1


def signed(number: int) -> int:
    """A number of 64 bits as PostgreSQL keeps it."""
    return number - 2**64 if number >= 2**63 else number


def address_of(hi: int, lo: int) -> str:
    """An address as text, from the two numbers that it is kept as."""
    return address_text(hi & UNSIGNED, lo & UNSIGNED)
