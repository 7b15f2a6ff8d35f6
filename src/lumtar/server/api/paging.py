"""Cursors: opaque words that say where the next page begins."""

import base64
import binascii

from lumtar.server.api.problems import Problem

FURTHEST = 10_000_000


def offset(cursor: str | None, start: int = 0) -> int:
    """Where a page begins: at a cursor, or at a row's number, for a list of which only what is seen is fetched.

    Raises
    ------
    Problem
        if it is not a cursor that was given out
    """
    if not cursor:
        return max(0, min(FURTHEST, start))
    try:
        return max(0, min(FURTHEST, int(base64.urlsafe_b64decode(cursor.encode()).decode())))
    except (ValueError, binascii.Error) as error:
        raise Problem(422, "That is not a cursor of this list.", "cursor") from error


def following(start: int, shown: int, total: int) -> str | None:
    """The cursor of the next page, or None after the last."""
    end = start + shown
    return base64.urlsafe_b64encode(str(end).encode()).decode() if shown and end < total else None
