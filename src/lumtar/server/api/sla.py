"""Whether promises are kept: a month by class, path, group, site, provider or transport, as a page, a table and a document."""

from datetime import datetime
from typing import Literal

from django.http import HttpRequest, HttpResponse
from django.utils import timezone
from ninja import Query
from pydantic import Field

from lumtar.domain.paths.judging import MISSED
from lumtar.domain.reports import sla, sla_document
from lumtar.server.api.access import VIEWER, Router
from lumtar.server.api.files import table_file
from lumtar.server.api.numbers import known
from lumtar.server.api.problems import refusing
from lumtar.server.api.schema import Schema

router = Router(tags=["paths"])
By = Literal["class", "path", "group", "site", "provider", "transport"]


class SlaFilters(Schema):
    """Which month (without one this month), on the clock of which zone, put together by what, and of what alone."""

    month: str = ""
    zone: str = Field("UTC", max_length=60)
    by: By = "class"
    service_class: str = ""
    site: str = ""
    provider: str = ""
    group: str = ""

    def report(self) -> sla.Report:
        """The report that is asked for."""
        now = timezone.now()
        only = {"class": self.service_class, "site": self.site, "provider": self.provider, "group": self.group}
        with refusing():
            start, end = sla.month(self.month or f"{now:%Y-%m}", self.zone)
            return sla.report(start, end, now, self.by, self.zone, only)


class KeptOut(Schema):
    """How a promise was kept: per cent of the time; minutes of the error budget; by target the minutes that missed it; per cent day by day."""

    name: str
    service_class: str
    promised: float
    paths: list[int]
    kept: float | None
    available: float | None
    forecast: float | None
    judged: int
    missed: int
    excluded: int
    budget: float
    left: float
    missed_by: dict[str, int]
    days: list[float | None]


class SlaOut(Schema):
    """A month until its last whole hour; what is nearest to the end of its budget, or beyond, comes first."""

    start: datetime
    end: datetime
    until: datetime
    words: str
    promises: list[str]
    rows: list[KeptOut]


@router.get("/sla", needs=VIEWER, response=SlaOut)
def show_sla(request: HttpRequest, query: Query[SlaFilters]) -> SlaOut:
    """How promises were kept within a month."""
    told = query.report()
    return SlaOut(
        start=told.start, end=told.end, until=told.until, words=sla_document.summary(told),
        promises=sla_document.promises(), rows=[_kept(row) for row in told.rows],
    )  # fmt: skip


def _kept(row: sla.Kept) -> KeptOut:
    budget, counts = row.budget, row.counts
    return KeptOut(
        name=row.name, service_class=row.service_class, promised=row.share, paths=sorted(row.paths), kept=known(budget.kept),
        available=known(row.available), forecast=known(budget.forecast), judged=counts["judged"], missed=counts["missed"],
        excluded=counts["excluded"], budget=budget.allowed, left=budget.left,
        missed_by={name: counts[column] for name, column in MISSED.items() if counts[column]},
        days=[known(each) for each in row.days],
    )  # fmt: skip


@router.get("/sla/export", needs=VIEWER)
def export_sla(
    request: HttpRequest, query: Query[SlaFilters], format: Literal["csv", "parquet", "pdf"] = "csv"
) -> HttpResponse:
    """The same as a file: a table, or a document to be printed."""
    told = query.report()
    name = f"sla-{told.start:%Y-%m}-{query.by}"
    if format != "pdf":
        return table_file(name, format, sla.columns_of(told))
    narrowed = [each for each in (query.service_class, query.site, query.provider, query.group) if each]
    title = f"Service levels, {', '.join(narrowed) or 'whole network'}"
    made = HttpResponse(sla_document.document(told, title, query.by), content_type="application/pdf")
    made["Content-Disposition"] = f'attachment; filename="{name}.pdf"'
    return made
