"""Why a device could not be read, in plain words: never one word for all of it."""

from enum import StrEnum


class FaultKind(StrEnum):
    """What went wrong, for rules and tests; people read the fault's words."""

    UNKNOWN_NAME = "unknown-name"
    UNREACHABLE = "unreachable"
    PORT_CLOSED = "port-closed"
    NO_ANSWER = "no-answer"
    GARBLED = "garbled"
    UNKNOWN_USER = "unknown-user"
    WRONG_KEY = "wrong-key"
    LEVEL = "unsupported-level"
    TIME_WINDOW = "time-window"
    DECRYPTION = "decryption"
    REFUSED = "refused"
    ERROR_STATUS = "error-status"
    LOOP = "loop"
    NO_ACCESS = "nothing-visible"
    CREDENTIAL = "credential"
    TOO_MUCH = "too-much"
    NOT_SET = "not-set"
    NOT_STORED = "not-stored"


class Fault(Exception):
    """A device could not be read. ``words`` is a sentence part for people, without a full stop."""

    def __init__(self, kind: FaultKind, words: str) -> None:
        super().__init__(words)
        self.kind = kind
        self.words = words
