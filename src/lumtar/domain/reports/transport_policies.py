"""Which transport a service class takes first by the policies that controllers tell of."""

from collections.abc import Iterable
from dataclasses import dataclass

from lumtar.core.controllers import POLICY
from lumtar.domain.controllers.models import ControllerItem
from lumtar.domain.paths.models import Transport


@dataclass(frozen=True, slots=True)
class Policy:
    """A policy: its name, the controller that tells of it, and the words for the transport that it takes first."""

    name: str
    controller: str
    transport: str

    def __str__(self) -> str:
        return f"the policy “{self.name}” of {self.controller}"

    def chosen(self, transports: Iterable[Transport]) -> Transport | None:
        """The one of some transports that it means: by its name, by the end of it, or by its provider."""
        word = self.transport.lower()
        found = [
            row for row in transports if word in (row.name.lower(), row.provider.lower()) or row.name.lower().endswith(f" {word}")
        ]  # fmt: skip
        # Words that several fit decide nothing.
        return found[0] if len({row.pk for row in found}) == 1 else None


def by_class() -> dict[str, Policy]:
    """The policies that are in force, by the name of their service class in small letters."""
    rows = ControllerItem.objects.filter(kind=POLICY.name, gone_at=None, controller__enabled=True).order_by("pk")
    told = rows.values_list("facts__about", "name", "controller__name", "facts__transport")
    return {about.lower(): Policy(name, by, over) for about, name, by, over in told if about and over}
