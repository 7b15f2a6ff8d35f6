"""What Lumtar says of itself."""

from datetime import datetime
from typing import Any

from django.http import HttpRequest

from lumtar import __version__
from lumtar.domain.inventory import polling
from lumtar.domain.inventory.polling import PollingLoad
from lumtar.domain.selfwatch import health as queries
from lumtar.domain.selfwatch.selfcheck import Finding, findings
from lumtar.server.api.access import ANYBODY, OPERATOR, VIEWER, Router
from lumtar.server.api.schema import Schema

router = Router(tags=["system"])


class ProcessOut(Schema):
    """A process and what it said of itself last."""

    name: str
    kind: str
    alive: bool
    beat_at: datetime | None
    started_at: datetime | None
    trouble: str
    detail: dict[str, Any]


class TroubleOut(Schema):
    """Something that is not being done."""

    subject: str
    words: str
    severity: int


class HealthOut(Schema):
    """``ok`` is false when something needs a person; ``words`` says what."""

    ok: bool
    words: str
    version: str
    newest_reading_at: datetime | None
    readings_fresh: bool
    waiting_jobs: int
    troubles: list[TroubleOut]
    processes: list[ProcessOut]


@router.get("/health", needs=ANYBODY, response=HealthOut)
def health(request: HttpRequest) -> HealthOut:
    """The state of each process and of the newest data. It needs no sign-in, so it holds no names."""
    found = queries.health()
    processes = [
        ProcessOut(**{name: getattr(process, name) for name in ProcessOut.model_fields}) for process in found.processes
    ]
    return HealthOut(
        ok=found.ok,
        words=found.words,
        version=__version__,
        newest_reading_at=found.newest_reading_at,
        readings_fresh=found.readings_fresh,
        waiting_jobs=found.waiting_jobs,
        troubles=[TroubleOut(subject=t.subject, words=t.words, severity=int(t.severity)) for t in found.troubles],
        processes=processes,
    )


@router.get("/polling/load", needs=VIEWER, response=PollingLoad)
def polling_load(request: HttpRequest) -> PollingLoad:
    """What polling costs: requests a second, and the collector's processor time for one."""
    return polling.load()


@router.get("/selfcheck", needs=OPERATOR.whole, response=list[Finding])
def selfcheck(request: HttpRequest) -> list[Finding]:
    """What Lumtar finds when it looks at itself, what is wrong first."""
    return findings()
