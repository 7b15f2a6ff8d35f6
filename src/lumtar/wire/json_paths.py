"""Finding values in JSON documents by JSONPath (RFC 9535)."""

from collections.abc import Mapping
from typing import Any

from jsonpath_rfc9535 import JSONPathEnvironment, JSONPathError, JSONPathQuery, JSONPathRecursionError

from lumtar.core.controllers import Listing
from lumtar.core.refusal import Refusal
from lumtar.wire.faults import Fault, FaultKind


class _Environment(JSONPathEnvironment):
    """Without functions of regular expressions, which could take for ever over what a stranger sends."""

    max_recursion_depth = 60

    def setup_function_extensions(self) -> None:
        """Only those that take a bounded time."""
        super().setup_function_extensions()
        for name in ("match", "search"):
            del self.function_extensions[name]


_ENVIRONMENT = _Environment()
LONGEST = 300


def compiled(path: str) -> JSONPathQuery:
    """A JSONPath, understood.

    Raises
    ------
    Refusal
    """
    try:
        if len(path) <= LONGEST:
            return _ENVIRONMENT.compile(path)
        words = f"it is longer than {LONGEST} letters"
    except JSONPathError as error:
        words = str(error).partition(", line")[0]
    raise Refusal(f"“{path[:60]}” is no JSONPath such as $.items[*].name: {words}.")


def check_paths(listing: Listing) -> None:
    """Whether all JSONPaths of a listing can be understood.

    Raises
    ------
    Refusal
    """
    for path in (listing.rows, listing.next_page, *listing.fields.values()):
        if path or path is listing.rows:
            compiled(path)


def first(document: Any, path: str) -> Any:
    """The first value at a path; None if there is none.

    Raises
    ------
    Fault
        if the document is nested too deeply to be looked through
    """
    values = every(document, compiled(path))
    return values[0] if values else None


def every(document: Any, query: JSONPathQuery) -> list[Any]:
    """All values at a path.

    Raises
    ------
    Fault
    """
    try:
        return list(query.find(document).values())
    except (JSONPathRecursionError, RecursionError) as error:
        raise Fault(FaultKind.GARBLED, "its answer is nested too deeply") from error


def rows(document: Any, listing: Listing) -> list[dict[str, Any]]:
    """The values of the fields of each row of a list.

    Raises
    ------
    Fault
    """
    queries: Mapping[str, JSONPathQuery] = {name: compiled(path) for name, path in listing.fields.items()}
    found = every(document, compiled(listing.rows))
    return [{name: next(iter(every(row, query)), None) for name, query in queries.items()} for row in found]
