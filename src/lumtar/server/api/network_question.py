"""Was it the network? Two ends and a time; an answer with its reasons, and with what could not be seen."""

from datetime import UTC, datetime, timedelta

from django.http import HttpRequest

from lumtar.core.verdict import Answer, Finding, Side
from lumtar.domain.reports import network_question
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span

router = Router(tags=["paths"])
HOUR = timedelta(hours=1)


class OnTheWay(Schema):
    """Something on the way: whose matter it is, when, how much it explains (0 to 1), and where more of it is shown."""

    what: str
    side: Side
    words: str
    start: datetime
    end: datetime
    weight: float
    page: str


class QuestionOut(Schema):
    """The answer, in a sentence; what speaks for it, the weightiest first; all that lay on the way in the order of time.

    ``usual`` was as always, ``unseen`` is what cannot be told; ``hops`` are the devices along the way,
    ``notes`` by what packets are routed.
    """

    start: datetime
    end: datetime
    whence: str
    whither: str
    answer: Answer
    sentence: str
    reasons: list[OnTheWay]
    timeline: list[OnTheWay]
    hops: list[str]
    notes: list[str]
    usual: list[str]
    unseen: list[str]


@router.get("/was-it-the-network", needs=VIEWER, response=QuestionOut)
def was_it_the_network(
    request: HttpRequest, whence: str, whither: str, start: datetime | None = None, end: datetime | None = None
) -> QuestionOut:
    """Look at everything that lay between two ends within a time (without one the last hour).

    An end is a site, a device, a port (device and port), an address, a MAC address, or a path by its name.
    """
    since, until = span(start, end, HOUR)
    with refusing():
        told = network_question.was_it_the_network(whence, whither, since, until)
    return QuestionOut(
        start=told.start, end=told.end, whence=told.whence, whither=told.whither, answer=told.verdict.answer,
        sentence=told.verdict.sentence, reasons=[_finding(each) for each in told.verdict.reasons],
        timeline=[_finding(each) for each in told.timeline], hops=told.hops, notes=told.notes, usual=told.usual, unseen=told.unseen,
    )  # fmt: skip


def _finding(each: Finding) -> OnTheWay:
    start, end = (datetime.fromtimestamp(at, UTC) for at in (each.start, each.end))
    return OnTheWay(
        what=each.what, side=each.side, words=each.words, start=start, end=end, weight=each.weight, page=each.page
    )
