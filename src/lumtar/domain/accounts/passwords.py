"""What a password must not be, beside what Django looks at."""

from django.contrib.auth.models import AbstractBaseUser
from django.core.exceptions import ValidationError

FEWEST_LETTERS = 5
WELL_KNOWN = (
    "lumtar",
    "password",
    "admin",
    "administrator",
    "network",
    "welcome",
    "qwerty",
    "letmein",
    "changeme",
    "secret",
)
"""Words that make up a password which everybody tries first."""


class NotRepeated:
    """Refuses what is one short piece again and again, has hardly any different letters, or is well-known words alone."""

    def validate(self, password: str, user: AbstractBaseUser | None = None) -> None:
        """Look at a password.

        Raises
        ------
        ValidationError
        """
        plain = password.lower()
        if any(
            plain == plain[:size] * (len(plain) // size)
            for size in range(1, len(plain) // 2 + 1)
            if len(plain) % size == 0
        ):
            raise ValidationError("It is one piece again and again; anybody who guesses the piece has it.")
        if len(set(plain)) < FEWEST_LETTERS:
            raise ValidationError(f"It has fewer than {FEWEST_LETTERS} different letters.")
        rest = plain
        for word in sorted(WELL_KNOWN, key=len, reverse=True):
            rest = rest.replace(word, "")
        if len(rest.strip("0123456789!?.-_ ")) == 0:
            raise ValidationError("It is made of words and digits that everybody tries first.")

    def get_help_text(self) -> str:
        """For a form."""
        return "Not one piece again and again, not only words that everybody tries first."
