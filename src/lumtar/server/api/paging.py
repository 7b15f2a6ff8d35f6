"""Cursors: opaque words that say where the next page begins."""

import base64
import binascii

from lumtar.server.api.problems import Problem


def offset(cursor: str | None) -> int:
    """Where a page begins.

    Raises
    ------
    Problem
        if it is not a cursor that was given out
    """
    if not cursor:
        return 0
    try:
        return max(0, min(10_000_000, int(base64.urlsafe_b64decode(cursor.encode()).decode())))
    except (ValueError, binascii.Error) as error:
        raise Problem(422, "That is not a cursor of this list.", "cursor") from error


def following(start: int, shown: int, total: int) -> str | None:
    """The cursor of the next page, or None after the last."""
    end = start + shown
    return base64.urlsafe_b64encode(str(end).encode()).decode() if shown and end < total else None
