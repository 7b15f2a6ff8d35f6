"""What is gathered about the way between two ends, while it is asked whether it was the network."""

from dataclasses import dataclass, field
from datetime import datetime

from lumtar.core.verdict import Finding, Side

PAUSE_S = 300.0
"""What is otherwise for so long in between is told as one."""


@dataclass(slots=True)
class Asking:
    """Two ends and a time, and what is found; ``usual`` is what was as always, ``unseen`` what cannot be told."""

    start: datetime
    end: datetime
    sites: tuple[int | None, int | None]
    findings: list[Finding] = field(default_factory=list)
    usual: list[str] = field(default_factory=list)
    unseen: list[str] = field(default_factory=list)

    def note(
        self, what: str, side: Side, words: str, since: float, until: float, weight: float = 0.0, page: str = ""
    ) -> None:
        """Something was found."""
        begin, end = self.start.timestamp(), self.end.timestamp()
        self.findings.append(Finding(what, side, words, max(begin, since), min(end, until), weight, page))
