"""Roles: who may do what. Each may do everything that the one before it may."""

from enum import StrEnum

LIMITED_ROLE = "lumtar_limited"
"""The database's role that asks for people who are limited to a part of the network."""


class Role(StrEnum):
    """What a person may do."""

    VIEWER = "viewer"
    """Look at everything that is measured."""
    OPERATOR = "operator"
    """Also respond: acknowledge, maintenance, comments, poll now, look live."""
    ENGINEER = "engineer"
    """Also set up: devices, profiles, rules, sweeps, groups."""
    ADMINISTRATOR = "administrator"
    """Also people, secrets and the system."""

    @property
    def rank(self) -> int:
        """Rises with what may be done."""
        return list(Role).index(self)

    def may(self, wanted: "Role") -> bool:
        """Whether this role includes another one."""
        return self.rank >= wanted.rank


def least(one: Role, other: Role) -> Role:
    """The one of two that may less: a token never may more than its owner."""
    return min(one, other, key=lambda role: role.rank)
