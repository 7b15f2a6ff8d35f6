"""A month's report on what was promised of paths, as a document to be printed or sent (PDF)."""

import io
import math
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import matplotlib
from reportlab.graphics.shapes import Drawing, Line, Rect
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4, landscape
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from lumtar.core.calling.hours import zone_of
from lumtar.core.measures import MEASURES
from lumtar.domain.paths.models import ServiceClass
from lumtar.domain.reports.sla import Kept, Report

INK, QUIET, FAULT, RULE = (
    colors.HexColor("#1d2433"),
    colors.HexColor("#5d6675"),
    colors.HexColor("#a8123a"),
    colors.HexColor("#d9d6cc"),
)
WIDTHS = [62 * mm, 30 * mm, 12 * mm, 20 * mm, 20 * mm, 20 * mm, 22 * mm, 24 * mm, 62 * mm]
STRIP_MM, STRIP_HEIGHT_MM = 58.0, 6.0


def document(told: Report, title: str, by: str) -> bytes:
    """The report as PDF: a summary in a sentence, a row for each of what it is put together by, and what was promised."""
    _fonts()
    heading = ParagraphStyle("heading", fontName="LumtarBold", fontSize=15, leading=19, textColor=INK)
    quiet = ParagraphStyle("quiet", fontName="Lumtar", fontSize=8, leading=11, textColor=QUIET)
    small = ParagraphStyle("small", fontName="Lumtar", fontSize=8, leading=10, textColor=INK)
    zone = zone_of(told.zone)
    span = f"{told.start.astimezone(zone):%d %B %Y} to {told.until.astimezone(zone):%d %B %Y %H:%M} ({told.zone})"
    parts: list[Any] = [
        Paragraph(escape(title), heading), Paragraph(escape(span), quiet), Spacer(1, 3 * mm),
        Paragraph(escape(summary(told)), small), Spacer(1, 4 * mm), _table(told.rows, by, small),
        Spacer(1, 5 * mm), *(Paragraph(escape(each), quiet) for each in promises()),
    ]  # fmt: skip
    made = io.BytesIO()
    SimpleDocTemplate(
        made, pagesize=landscape(A4), leftMargin=12 * mm, rightMargin=12 * mm, topMargin=12 * mm, bottomMargin=12 * mm,
        title=title, author="Lumtar",
    ).build(parts)  # fmt: skip
    return made.getvalue()


def summary(told: Report) -> str:
    """How many promises were kept, and which one is furthest from it."""
    judged = [row for row in told.rows if row.counts["judged"]]
    if not judged:
        return "Nothing was judged in this time."
    broken = [row for row in judged if row.budget.kept < row.share]
    if not broken:
        return f"All {len(judged)} were kept until now." if len(judged) > 1 else "It was kept until now."
    worst = min(broken, key=lambda row: row.budget.kept - row.share)
    return (
        f"{len(broken)} of {len(judged)} were not kept. Furthest from it is {worst.name}: {_percent(worst.budget.kept)}"
        f" of the time, {worst.share:g} % were promised."
    )


def promises() -> list[str]:
    """What each service class promises, in words."""
    found = []
    for row in ServiceClass.objects.order_by("name"):
        limits = ", ".join(
            f"{MEASURES[name].words.lower()} {'at least' if name == 'path_mos' else 'at most'} {limit:g} {MEASURES[name].unit}".strip()
            for name, limit in row.limits.items()
        )
        hours = f", {row.hours} ({row.zone})" if row.hours else ""
        found.append(f"{row.name}: {limits}; {row.share:g} % of the minutes{hours}. Agreed maintenance does not count.")
    return found


def _table(rows: Sequence[Kept], by: str, style: ParagraphStyle) -> Table:
    head = [by.capitalize(), "Class", "Paths", "Promised", "Kept", "Available", "Expected", "Budget left", "Day by day"]
    lines: list[list[Any]] = [head]
    looks: list[tuple[Any, ...]] = [
        ("FONT", (0, 0), (-1, -1), "Lumtar", 8), ("FONT", (0, 0), (-1, 0), "LumtarBold", 8), ("TEXTCOLOR", (0, 0), (-1, -1), INK),
        ("ALIGN", (2, 0), (7, -1), "RIGHT"), ("VALIGN", (0, 0), (-1, -1), "MIDDLE"), ("LINEBELOW", (0, 0), (-1, 0), 0.8, INK),
        ("LINEBELOW", (0, 1), (-1, -1), 0.3, RULE), ("TOPPADDING", (0, 0), (-1, -1), 2), ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
    ]  # fmt: skip
    for place, row in enumerate(rows, 1):
        budget = row.budget
        lines.append([
            Paragraph(escape(row.name), style), Paragraph(escape(row.service_class), style), str(len(row.paths)), f"{row.share:g} %",
            _percent(budget.kept), _percent(row.available), _percent(budget.forecast), minutes(budget.left), _strip(row),
        ])  # fmt: skip
        if budget.kept < row.share:
            looks.append(("TEXTCOLOR", (4, place), (4, place), FAULT))
        if budget.left < 0:
            looks.append(("TEXTCOLOR", (7, place), (7, place), FAULT))
    return Table(lines, colWidths=WIDTHS, repeatRows=1, style=TableStyle(looks))


def _strip(row: Kept) -> Drawing:
    """A bar for each day: how much was missed of it, as a share of five times what may be."""
    made = Drawing(STRIP_MM * mm, STRIP_HEIGHT_MM * mm)
    step = STRIP_MM * mm / max(1, len(row.days))
    most = 5 * (100 - row.share)
    for day, kept in enumerate(row.days):
        if math.isnan(kept):
            continue
        height = max(0.4, min(1.0, (100 - kept) / most) * STRIP_HEIGHT_MM * mm)
        colour = FAULT if kept < row.share else INK
        made.add(Rect(day * step, 0, step * 0.75, height, fillColor=colour, strokeColor=None))
    made.add(
        Line(0, STRIP_HEIGHT_MM * mm / 5, STRIP_MM * mm, STRIP_HEIGHT_MM * mm / 5, strokeColor=QUIET, strokeWidth=0.3)
    )
    return made


def _percent(value: float) -> str:
    # Cut off, not rounded: what was not kept in full is not told as if it was.
    return "–" if math.isnan(value) else f"{math.floor(100 * value) / 100:.2f} %"


def minutes(value: float) -> str:
    """Minutes in the largest unit that suits."""
    size, sign = abs(value), "-" if value < 0 else ""
    if size >= 2880:
        return f"{sign}{size / 1440:.1f} d"
    return f"{sign}{size / 60:.1f} h" if size >= 120 else f"{sign}{size:.0f} min"


@lru_cache(maxsize=1)
def _fonts() -> None:
    folder = Path(matplotlib.get_data_path()) / "fonts" / "ttf"
    pdfmetrics.registerFont(TTFont("Lumtar", folder / "DejaVuSans.ttf"))
    pdfmetrics.registerFont(TTFont("LumtarBold", folder / "DejaVuSans-Bold.ttf"))
