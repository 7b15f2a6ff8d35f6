"""``manage apply``: take a set-up over from YAML."""

import sys
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from lumtar.core.refusal import Refusal
from lumtar.domain.setup.text import apply


class Command(BaseCommand):
    """Take a set-up over; what it does not name stays. With one problem nothing of it is taken."""

    help = "Take a set-up over from YAML. What it does not name stays; with one problem nothing of it is taken."

    def add_arguments(self, parser: CommandParser) -> None:
        """A file, and how."""
        parser.add_argument("file", help="as written by export; - is what is piped in")
        parser.add_argument("--dry-run", action="store_true", help="show the difference, change nothing")
        parser.add_argument(
            "--for-all", action="store_true", help="changed profiles hold for the devices that have them, too"
        )

    def handle(self, *args: object, **options: Any) -> None:
        """Take it over and say what changed; ends with 1 if something cannot be taken."""
        try:
            raw = sys.stdin.buffer.read() if options["file"] == "-" else Path(options["file"]).read_bytes()
            applied = apply(raw.decode("utf-8-sig"), "manage apply", options["dry_run"], options["for_all"])
        except OSError as error:
            raise CommandError(f"{options['file']} cannot be read: {error.strerror}.") from error
        except UnicodeDecodeError as error:
            raise CommandError("The file is not UTF-8.") from error
        except Refusal as error:
            raise CommandError(str(error)) from error
        for change in applied.changes:
            self.stdout.write(f"{change.section}: {change.name}: {change.words}")
        for problem in applied.problems:
            self.stderr.write(f"{problem.section}: {problem.name}: {problem.words}")
        if applied.problems:
            raise CommandError("Nothing was changed: mend these first.")
        if not applied.changes:
            self.stdout.write("Nothing to change: it is all there already.")
        elif options["dry_run"]:
            self.stdout.write("Nothing was changed: this was a dry run.")
