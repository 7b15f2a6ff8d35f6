"""Which ports and devices are meant: of a site, a group, with a role, that hold some words."""

from dataclasses import dataclass
from typing import Any

from lumtar.domain.inventory import groups

NO_SITE = "No site"
"""The name under which devices without a site are found."""


NATURAL = 'COLLATE "natural"'
"""The order of people: Site 2 comes before Site 10."""


@dataclass(frozen=True, slots=True)
class Scope:
    """Which ports are meant: of a site, a device, a group, with a role, that hold all of some words."""

    site: str | None = None
    device: int | None = None
    group: int | None = None
    role: str = ""
    words: str = ""

    @property
    def is_whole(self) -> bool:
        """All of them."""
        return not (self.site or self.device or self.group or self.role or self.words)


EVERYWHERE = Scope()


PORT_WORDS = "(i.label || ' ' || i.name || ' ' || i.alias || ' ' || i.descr || ' ' || i.role)"
"""What words are looked for in; there is an index by groups of three letters (migration 0008)."""


def at_site(site: str, values: dict[str, Any]) -> str:
    """A condition: the device (d) is at that site (s), or at none."""
    if site == NO_SITE:
        return "d.site_id IS NULL"
    values["site"] = site
    return "s.name = %(site)s"


def in_group(group: int, values: dict[str, Any]) -> str:
    """A condition: the device (d) has a port in that group.

    Raises
    ------
    Group.DoesNotExist
    """
    return f"d.id = ANY(ARRAY(SELECT x.device FROM ({groups.in_group(group, values)}) x))"


def search(words: str, columns: tuple[str, ...], where: list[str], values: dict[str, Any]) -> None:
    """Add a condition for each word: it occurs in one of the columns, as it is written."""
    text = " || ' ' || ".join(columns)
    for number, word in enumerate(words.split()[:6]):
        where.append(f"({text}) ILIKE %(word{number})s")
        values[f"word{number}"] = pattern(word)


def pattern(word: str) -> str:
    """What ILIKE takes to find a word anywhere, as it is written."""
    return "%" + word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
