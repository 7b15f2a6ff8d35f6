"""``manage rebuild``: sum up readings anew."""

from datetime import UTC, datetime, timedelta
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.utils import timezone

from lumtar.core.refusal import Refusal
from lumtar.domain.readings import rollups


class Command(BaseCommand):
    """Sum the readings of some days up anew; screens show the old sums until a day is done."""

    help = "Sum readings up anew into five minutes, hours and days, for the days that have readings."

    def add_arguments(self, parser: CommandParser) -> None:
        """A range of days."""
        parser.add_argument(
            "--from", dest="first", type=_day, help="first day (UTC), as 2026-11-01; else the oldest kept"
        )
        parser.add_argument("--to", dest="last", type=_day, help="last day (UTC); else today")

    def handle(self, *args: object, **options: Any) -> None:
        """Do it and say how much."""
        first = options["first"] or datetime(1990, 1, 1, tzinfo=UTC)
        last = options["last"] + timedelta(days=1) if options["last"] else timezone.now()
        if first >= last:
            raise CommandError("The first day lies behind the last one.")
        try:
            written = rollups.rebuild(first, last)
        except Refusal as error:
            raise CommandError(str(error)) from error
        self.stdout.write(f"{written:,} sums written.")


def _day(text: str) -> datetime:
    return datetime.strptime(text, "%Y-%m-%d").replace(tzinfo=UTC)
