"""Which ports are meant, as every list, chart and total is told it."""

from lumtar.domain.inventory.scope import Scope
from lumtar.server.api.schema import Schema


class ScopeIn(Schema):
    """Ports of a site, a device, a group, with a role, that hold all of some words; all of these together."""

    site: str | None = None
    device: int | None = None
    group: int | None = None
    role: str = ""
    words: str = ""

    @property
    def scope(self) -> Scope:
        """The same for the domain."""
        return Scope(self.site, self.device, self.group, self.role, self.words)
