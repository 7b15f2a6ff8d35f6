"""Captures of packets at the interfaces of collectors."""

from datetime import datetime

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from ninja import Status
from pydantic import Field

from lumtar.domain.flows import captures
from lumtar.domain.flows.models import Capture
from lumtar.domain.logbook.services import note_action
from lumtar.server.api.access import ENGINEER, Router
from lumtar.server.api.problems import Problem, refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["captures"])


class CapturePlace(Schema):
    """A collector, and the interfaces that it can capture at."""

    collector: str
    interfaces: list[str]


class CaptureIn(Schema):
    """What to capture: at which interface of which collector, by a filter in libpcap's words, for how long, and how much at most.

    ``longest`` is how many octets of a packet are kept. ``why`` is what it is about.
    """

    collector: str = Field(max_length=120)
    interface: str = Field(max_length=40)
    filter: str = Field("", max_length=1000)
    longest: int = 256
    seconds: int = 30
    most_octets: int = 8 << 20
    why: str = Field("", max_length=300)


class CaptureOut(CaptureIn):
    """A capture, how far it is, and why it ended."""

    id: int
    by: str
    asked_at: datetime
    begun_at: datetime | None
    ended_at: datetime | None
    state: str
    words: str
    packets: int
    dropped: int
    octets: int


class CapturesOut(Schema):
    """All captures, the newest first, and where there can be more."""

    rows: list[CaptureOut]
    places: list[CapturePlace]


@router.get("/captures", needs=ENGINEER.everywhere, response=CapturesOut)
def list_captures(request: HttpRequest) -> CapturesOut:
    """Captures that were asked for within a week."""
    return CapturesOut(
        rows=[_capture(row) for row in Capture.objects.defer("data").order_by("-asked_at")],
        places=[CapturePlace(collector=name, interfaces=listed) for name, listed in captures.places()],
    )


def _capture(row: Capture) -> CaptureOut:
    return CaptureOut(**{name: getattr(row, name) for name in CaptureOut.model_fields})


@router.post("/captures", needs=ENGINEER.everywhere, response={201: CaptureOut})
def begin_capture(request: HttpRequest, body: CaptureIn) -> Status[CaptureOut]:
    """Ask a collector to capture packets."""
    with refusing():
        row = captures.ask(Capture(by=request.user.get_username(), **body.model_dump()))
    return Status(201, _capture(row))


@router.post("/captures/{int:capture}/stop", needs=ENGINEER.everywhere, response={204: None})
def stop_capture(request: HttpRequest, capture: int) -> Status[None]:
    """Have it end now; what was captured is kept."""
    get_object_or_404(Capture.objects.defer("data"), pk=capture)
    captures.stop(capture, request.user.get_username())
    return Status(204, None)


@router.get("/captures/{int:capture}/file", needs=ENGINEER.everywhere)
def download_capture(request: HttpRequest, capture: int) -> HttpResponse:
    """The packets as pcapng; that somebody took them is noted."""
    row = get_object_or_404(Capture, pk=capture)
    if row.data is None:
        raise Problem(409, "There are no packets: it has not ended, or it failed.")
    note_action(f"capture at {row.collector} {row.interface} downloaded", request.user.get_username())
    answer = HttpResponse(bytes(row.data), content_type="application/x-pcapng")
    answer["Content-Disposition"] = f'attachment; filename="capture-{row.pk}.pcapng"'
    return answer


@router.delete("/captures/{int:capture}", needs=ENGINEER.everywhere, response={204: None})
def delete_capture(request: HttpRequest, capture: int) -> Status[None]:
    """Delete a capture with its packets."""
    get_object_or_404(Capture.objects.defer("data"), pk=capture)
    captures.delete(capture, request.user.get_username())
    return Status(204, None)
