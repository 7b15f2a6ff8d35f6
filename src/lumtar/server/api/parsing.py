"""What a request may hold: JSON without zeros in its texts, numbers that fit 64 bits, and no deeper than anybody writes it."""

from typing import Any

import orjson
from django.http import HttpRequest, QueryDict
from ninja.parser import Parser

from lumtar.server.api.problems import Problem

DEEPEST = 40
HIGHEST, LOWEST = 2**63 - 1, -(2**63)
LONGEST_QUERY_VALUE = 20_000


def check(sent: Any, where: str = "", depth: int = 0) -> None:
    """Look through what was sent.

    Raises
    ------
    Problem
        422, with the place
    """
    if depth > DEEPEST:
        raise Problem(422, "It is nested too deeply.", where)
    if isinstance(sent, str):
        if "\0" in sent:
            raise Problem(422, f"{where or 'A text'} holds a zero, which no text can.", where)
    elif isinstance(sent, int) and not LOWEST <= sent <= HIGHEST:
        raise Problem(422, f"{where or 'A number'} does not fit 64 bits.", where)
    elif isinstance(sent, dict):
        for name, value in sent.items():
            check(name, where, depth + 1)
            check(value, f"{where}.{name}" if where else str(name), depth + 1)
    elif isinstance(sent, list):
        for place, value in enumerate(sent):
            check(value, f"{where}.{place}" if where else str(place), depth + 1)


class Careful(Parser):
    """Reads bodies and queries."""

    def parse_body(self, request: HttpRequest) -> Any:
        """The JSON of a body."""
        try:
            body = orjson.loads(request.body)
        except orjson.JSONDecodeError as error:
            # It refuses halves of surrogate pairs and numbers that are none as well.
            raise Problem(400, f"The body is not JSON: {error}") from error
        check(body)
        return body

    def parse_querydict(self, data: Any, list_fields: list[str], request: HttpRequest) -> Any:
        """The fields of a query."""
        if isinstance(data, QueryDict):
            for name, values in data.lists():
                for value in values:
                    if len(str(value)) > LONGEST_QUERY_VALUE:
                        raise Problem(422, f"{name[:80]} is too long.", name[:80])
                    check(str(value), name[:80])
        return super().parse_querydict(data, list_fields, request)
