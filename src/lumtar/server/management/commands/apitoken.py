"""``manage apitoken USER``: a new token for the API."""

from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandError, CommandParser

from lumtar.domain.accounts.services import new_token


class Command(BaseCommand):
    """Print a new API token of a user; send it as Authorization: Bearer."""

    help = "Print a new API token of a user; it is shown this once. Send it as Authorization: Bearer TOKEN."

    def add_arguments(self, parser: CommandParser) -> None:
        """Take the user's name."""
        parser.add_argument("user")

    def handle(self, *args: object, **options: str) -> None:
        """Make and print the token."""
        user = User.objects.filter(username=options["user"]).first()
        if user is None:
            names = ", ".join(User.objects.values_list("username", flat=True)) or "nobody yet"
            raise CommandError(f"There is no user {options['user']!r}; there is {names}.")
        self.stdout.write(new_token(user))
