"""The basis of everything that is told to the API and by it."""

import ninja
from pydantic import ConfigDict

LONGEST_TEXT = 4_000_000


class Schema(ninja.Schema):
    """Fields with types. Infinity and what is not a number are no numbers here, and no text is longer than a list of devices."""

    model_config = ConfigDict(from_attributes=True, allow_inf_nan=False, str_max_length=LONGEST_TEXT)
