"""How often something may be asked: of one address, by one name, in all. Counted by each web process for itself."""

import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

MOST_KEYS = 10_000


class TooOften(Exception):
    """Asked too often; it may be tried again after so many seconds."""

    def __init__(self, words: str, after_s: int) -> None:
        super().__init__(words)
        self.after_s = after_s


@dataclass(slots=True)
class Limit:
    """At most so many within so many seconds, for each key."""

    most: int
    within_s: float
    words: str
    _times: dict[str, deque[float]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def take(self, key: str = "") -> None:
        """Count one more.

        Raises
        ------
        TooOften
        """
        now = time.monotonic()
        with self._lock:
            if len(self._times) > MOST_KEYS:
                self._times = {
                    each: times for each, times in self._times.items() if times and times[-1] > now - self.within_s
                }
            times = self._times.setdefault(key, deque())
            while times and times[0] <= now - self.within_s:
                times.popleft()
            if len(times) >= self.most:
                raise TooOften(self.words, max(1, round(times[0] + self.within_s - now)))
            times.append(now)

    def give_back(self, key: str = "") -> None:
        """The last one does not count: whoever knows the password does not guess it."""
        with self._lock:
            if times := self._times.get(key):
                times.pop()

    def forget(self) -> None:
        """Begin anew."""
        with self._lock:
            self._times.clear()


@dataclass(slots=True)
class Room:
    """At most so many at once; whoever comes then waits, but not for long."""

    most: int
    wait_s: float
    words: str
    _places: threading.BoundedSemaphore = field(init=False)

    def __post_init__(self) -> None:
        self._places = threading.BoundedSemaphore(self.most)

    @contextmanager
    def taken(self) -> Iterator[None]:
        """Have a place meanwhile.

        Raises
        ------
        TooOften
        """
        self.take()
        try:
            yield
        finally:
            self.leave()

    def take(self) -> None:
        """Take a place.

        Raises
        ------
        TooOften
        """
        if not self._places.acquire(timeout=self.wait_s):
            raise TooOften(self.words, 5)

    def leave(self) -> None:
        """Give it back."""
        self._places.release()


SIGN_INS = "Too many sign-ins. Wait a moment, then try again."
SIGN_INS_OF_ADDRESS = Limit(30, 60.0, "Too many sign-ins from this address. Wait a minute, then try again.")
SIGN_INS_OF_NAME = Limit(20, 300.0, "Too many sign-ins with this name. Wait some minutes, then try again.")
SIGN_INS_IN_ALL = Limit(120, 60.0, SIGN_INS)
HASHING = Room(2, 5.0, SIGN_INS)
"""To look at a password takes 100 MB for a moment: never more than two at once."""
TRIES = Limit(60, 60.0, "Too many devices tried out. Wait a minute, then try again.")
TRYING = Room(4, 0.0, "Several devices are being tried out already. Wait until one is done.")
UPLOADS = Room(2, 20.0, "Others are loading large files just now. Wait until they are done.")
EVERY_LIMIT = (SIGN_INS_OF_ADDRESS, SIGN_INS_OF_NAME, SIGN_INS_IN_ALL, TRIES)
