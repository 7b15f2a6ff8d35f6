"""Flow records one by one: as they come, and those that were kept."""

from datetime import datetime, timedelta
from typing import Any, Literal

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404
from django.utils import timezone
from ninja import Query, Status

from lumtar.domain.flows import applications, recording
from lumtar.domain.flows.halves import address_of
from lumtar.domain.flows.models import Recording
from lumtar.domain.inventory.models import Device, Interface
from lumtar.domain.operation.models import Process
from lumtar.domain.reports import traffic
from lumtar.server.api.access import ENGINEER, OPERATOR, VIEWER, Router
from lumtar.server.api.files import table_file
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema
from lumtar.server.api.times import span
from lumtar.server.api.traffic import TrafficFilters

router = Router(tags=["traffic"])
LAST = timedelta(seconds=60)
SHOWN = timedelta(minutes=10)
SHOWN_ROWS = 500


class RecordEnd(Schema):
    """Who sends or receives: address, what is known of it, port, site, AS."""

    address: str
    name: str
    port: int
    site: str
    autonomous_system: int


class RecordOut(Schema):
    """A record with all its fields. Octets and packets are as before sampling; ``path`` is by which ports it came and went."""

    at: datetime
    start: datetime
    end: datetime
    source: RecordEnd
    destination: RecordEnd
    application: str
    application_id: int
    server_name: str
    service: str
    protocol: str
    octets: int
    packets: int
    dscp: int
    ecn: int
    tcp_flags: str
    sampling: int
    direction: str
    exporter_id: int
    exporter: str
    came_in: str
    went_out: str
    input: int
    output: int


class RecordsOut(Schema):
    """The newest records of a time, newest first; ``number`` is how many there are. ``words`` say what is not shown."""

    until: datetime
    rows: list[RecordOut]
    number: int
    words: str


class LookIn(Schema):
    """Whether to have records kept for a while from now, and of how many seconds to show those that came."""

    last_s: int = 60


@router.post("/traffic/live", needs=OPERATOR, response=RecordsOut)
def look_at_records(request: HttpRequest, body: LookIn, query: Query[TrafficFilters]) -> RecordsOut:
    """Flow records as they come: from now on they are kept, as long as this is asked for again within a quarter of a minute."""
    asked = query.asked
    device = asked.device
    if asked.interface is not None:
        device = get_object_or_404(Interface, pk=asked.interface).device_id
    elif device is not None:
        get_object_or_404(Device, pk=device)
    recording.look(device, request.user.get_username())
    now = timezone.now()
    last = min(SHOWN, timedelta(seconds=max(1, body.last_s)))
    with refusing():
        rows, number = recording.read(asked, now - last, now, SHOWN_ROWS)
    return RecordsOut(until=now, rows=_named(rows), number=number, words=_left_out())


@router.get("/traffic/records", needs=VIEWER, response=RecordsOut)
def list_records(request: HttpRequest, query: Query[TrafficFilters]) -> RecordsOut:
    """Records that were kept, of a time; without times the last minute."""
    since, until = span(query.start, query.end, LAST)
    with refusing():
        rows, number = recording.read(query.asked, since, until, min(query.limit, SHOWN_ROWS))
    return RecordsOut(until=until, rows=_named(rows), number=number, words="")


@router.get("/traffic/records/export", needs=VIEWER)
def export_records(
    request: HttpRequest, query: Query[TrafficFilters], format: Literal["csv", "parquet"] = "csv"
) -> HttpResponse:
    """The newest 10,000 records of a time as a file, with all their fields."""
    since, until = span(query.start, query.end, LAST)
    with refusing():
        rows, _ = recording.read(query.asked, since, until, recording.MOST_ROWS)
    flat = [_flat(each) for each in _named(rows)]
    names = list(flat[0]) if flat else list(_flat(EXAMPLE))
    return table_file("flow-records", format, {name: [row[name] for row in flat] for name in names})


def _flat(row: RecordOut) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in row.model_dump().items():
        if isinstance(value, dict):
            found |= {f"{name}_{inner}": each for inner, each in value.items()}
        else:
            found[name] = value.isoformat() if isinstance(value, datetime) else value
    return found


def _left_out() -> str:
    """What is said if more records come than are kept one by one."""
    for detail in Process.objects.filter(kind="flows", stopped_at=None).values_list("detail", flat=True):
        if detail.get("not_recorded"):
            return "More records come than are kept one by one: some are left out here, not in the totals."
    return ""


FLAGS = ("FIN", "SYN", "RST", "PSH", "ACK", "URG", "ECE", "CWR")
"""Of TCP, from the lowest bit on (RFC 9293 section 3.1)."""
DIRECTIONS = {0: "ingress", 1: "egress"}


def _named(rows: list[dict[str, Any]]) -> list[RecordOut]:
    addresses = {address_of(row[f"{end}_hi"], row[f"{end}_lo"]) for row in rows for end in ("src", "dst")}
    known = traffic.known_addresses(addresses)
    sites, called = traffic.site_names(), applications.names()
    devices = dict(Device.objects.filter(pk__in={row["device_id"] for row in rows}).values_list("pk", "name"))
    ids = {row[name] for row in rows for name in ("in_id", "out_id")}
    ports = dict(Interface.objects.filter(pk__in=ids).values_list("pk", "label"))

    def end(row: dict[str, Any], which: str) -> RecordEnd:
        address = address_of(row[f"{which}_hi"], row[f"{which}_lo"])
        return RecordEnd(
            address=address,
            name=known.get(address, ""),
            port=row[f"{which}_port"],
            site=sites.get(row[f"{which}_site"], traffic.ELSEWHERE),
            autonomous_system=row[f"{which}_as"],
        )

    same = ("at", "start", "end", "application_id", "octets", "packets", "dscp", "ecn", "sampling", "input", "output")
    return [
        RecordOut(
            source=end(row, "src"),
            destination=end(row, "dst"),
            application=called.get(row["application"], f"application {row['application']}"),
            service=traffic.service_name(row["protocol"], row["port"]),
            protocol=traffic.PROTOCOLS.get(row["protocol"], f"protocol {row['protocol']}"),
            tcp_flags=" ".join(name for bit, name in enumerate(FLAGS) if row["tcp_flags"] >> bit & 1),
            direction=DIRECTIONS.get(row["direction"], ""),
            exporter_id=row["device_id"],
            exporter=devices.get(row["device_id"], ""),
            came_in=ports.get(row["in_id"], ""),
            went_out=ports.get(row["out_id"], ""),
            server_name=(row["server_name"] or "").rstrip(),
            **{name: row[name] for name in same},
        )
        for row in rows
    ]


_NOBODY = RecordEnd(address="", name="", port=0, site="", autonomous_system=0)
EXAMPLE = RecordOut(
    at=datetime.min, start=datetime.min, end=datetime.min, source=_NOBODY, destination=_NOBODY, application="", application_id=0,
    server_name="",    service="", protocol="", octets=0, packets=0, dscp=0, ecn=0, tcp_flags="", sampling=0, direction="", exporter_id=0, exporter="",
    came_in="", went_out="", input=0, output=0,
)  # fmt: skip
"""For the first line of a file without rows."""


class RecordingOut(Schema):
    """Records that are kept one by one until a time: those of a device, or of all exporters."""

    id: int
    device_id: int | None
    device: str
    by: str
    since: datetime
    until: datetime


class RecordingIn(Schema):
    """Whose records are kept, and for how many hours from now."""

    device: int | None = None
    hours: float


@router.get("/traffic/recordings", needs=VIEWER, response=list[RecordingOut])
def list_recordings(request: HttpRequest) -> list[RecordingOut]:
    """What is being kept one by one."""
    return [_recording(each) for each in recording.running()]


@router.post("/traffic/recordings", needs=ENGINEER.everywhere, response={201: RecordingOut})
def begin_recording(request: HttpRequest, body: RecordingIn) -> Status[RecordingOut]:
    """Keep records one by one from now on; they are there for a week."""
    device = get_object_or_404(Device, pk=body.device) if body.device is not None else None
    with refusing():
        length = timedelta(hours=max(0.0, min(body.hours, 10_000.0)))
        made = recording.begin(device, length, request.user.get_username())
    return Status(201, _recording(made))


@router.delete("/traffic/recordings/{int:recording_id}", needs=ENGINEER.everywhere, response={204: None})
def end_recording(request: HttpRequest, recording_id: int) -> Status[None]:
    """Keep no more; what was kept stays."""
    get_object_or_404(Recording, pk=recording_id)
    recording.end(recording_id, request.user.get_username())
    return Status(204, None)


def _recording(row: Recording) -> RecordingOut:
    return RecordingOut(
        id=row.pk,
        device_id=row.device_id,
        device=str(row.device) if row.device else "",
        by=row.by,
        since=row.since,
        until=row.until,
    )
