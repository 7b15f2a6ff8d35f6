"""``manage selfcheck``: what Lumtar finds when it looks at itself."""

import sys
from typing import Any

from django.core.management.base import BaseCommand

from lumtar.domain.selfwatch.selfcheck import WRONG, findings

MARKS = {"well": "✓", "watch": "·", "wrong": "✕"}


class Command(BaseCommand):
    """Look at database, disk, clock, processes, jobs, mail and credentials; ends with 1 if something is wrong."""

    help = "Look at database, disk, clock, processes, jobs, mail and credentials."

    def handle(self, *args: object, **options: Any) -> None:
        """Print every finding, with what it means and what to do."""
        listed = findings()
        for each in listed:
            self.stdout.write(f"{MARKS[each.state]} {each.subject}: {each.words}")
            for line in (each.means, each.then):
                if line:
                    self.stdout.write(f"    {line}")
        if any(each.state == WRONG for each in listed):
            sys.exit(1)
