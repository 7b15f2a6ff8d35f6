"""``manage export``: the set-up as YAML."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from lumtar.domain.setup.text import written


class Command(BaseCommand):
    """Write sites, credentials without secrets, profiles, label rules, sweeps and admission rules as YAML."""

    help = "Write the set-up as YAML, to the screen or to a file. It holds no secrets."

    def add_arguments(self, parser: CommandParser) -> None:
        """One file, or none."""
        parser.add_argument("file", nargs="?", help="where to; left out: the screen")

    def handle(self, *args: object, **options: Any) -> None:
        """Write it."""
        text = written()
        if not options["file"]:
            self.stdout.write(text, ending="")
            return
        try:
            Path(options["file"]).write_text(text, encoding="utf-8")
        except OSError as error:
            raise CommandError(f"{options['file']} cannot be written: {error.strerror}.") from error
        self.stdout.write(f"Written to {options['file']}.")
