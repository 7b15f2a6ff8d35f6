"""Names of servers as clients ask for them in TLS and HTTP, and as flow records carry them: each is a number within this process."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from lumtar.core.refusal import Refusal

NOTHING = 0
MOST_OCTETS = 100
"""Octets of a name that are read."""
MOST = 100_000
"""Names that are remembered at once."""
LETTERS = frozenset("abcdefghijklmnopqrstuvwxyz0123456789-._")


class ServerNames:
    """Names by number; the number 0 is no name.

    Numbers hold until ``tidy`` is called: it forgets all names if there are too many, as somebody who sends made-up ones would have it.
    """

    def __init__(self) -> None:
        self._numbers: dict[bytes, int] = {}
        self._texts = [""]

    def __getitem__(self, number: int) -> str:
        return self._texts[number]

    def numbers_of(self, told: NDArray[np.bytes_]) -> NDArray[np.uint32]:
        """Numbers of names as they came; what is no host name has none."""
        different, which = np.unique(told, return_inverse=True)
        numbers = np.array([self._number(each) for each in different.tolist()], "u4")
        return numbers[which] if len(numbers) else np.zeros(len(told), "u4")

    def texts(self, numbers: NDArray[Any]) -> NDArray[np.bytes_]:
        """Names by their numbers, at most ``MOST_OCTETS`` octets each."""
        different, which = np.unique(numbers, return_inverse=True)
        return np.array([self._texts[each].encode() for each in different.tolist()] or [b""], f"S{MOST_OCTETS}")[which]

    def tidy(self) -> None:
        """Forget all names if there are too many. To be called between records, as numbers are given anew."""
        if len(self._texts) > MOST:
            self._numbers, self._texts = {}, [""]

    def _number(self, told: bytes) -> int:
        known = self._numbers.get(told)
        if known is None:
            text = host_name(told)
            known = len(self._texts) if text else NOTHING
            self._numbers[told] = known
            if text:
                self._texts.append(text)
        return known


def host_name(told: bytes) -> str:
    """A host name as it came, in small letters, without the port that HTTP's Host may have; empty if it is none."""
    text = told.decode("ascii", "replace").strip("\0 ").lower()
    name, _, port = text.partition(":")
    name = name.rstrip(".")
    return name if name and set(name) <= LETTERS and (not port or port.isdecimal()) else ""


def names_of(text: str) -> tuple[str, ...]:
    """Names from a text such as ``catalogue.example, films.example``.

    Raises
    ------
    Refusal
    """
    found = []
    for part in text.replace(",", " ").split():
        name = host_name(part.encode())
        if not name or ":" in part or len(part) > MOST_OCTETS:
            raise Refusal(
                f"“{part[:40]}” is not the name of a server: write films.example, which means everything beneath it as well.",
                "server_names",
            )
        found.append(name)
    return tuple(dict.fromkeys(found))


def covers(names: Sequence[str], name: str) -> bool:
    """Whether a name is one of some, or lies beneath one of them."""
    return any(name == each or name.endswith("." + each) for each in names)
