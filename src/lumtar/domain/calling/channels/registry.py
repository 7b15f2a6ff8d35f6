"""What a channel is, and the registry of them."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime

from lumtar.core.alarms.severity import Severity

Target = Mapping[str, str]
"""What an address consists of, secrets included."""


@dataclass(frozen=True, slots=True)
class Told:
    """One alarm in a message: what a receiving system needs, as plain values."""

    alarm: int
    resource: str
    label: str
    site: str
    type: str
    severity: Severity
    text: str
    at: datetime
    raised_at: datetime
    cause: str = ""
    """What it follows from by the time that it is sent; empty if it stands by itself."""
    note: str = ""
    """What else is known of it."""


@dataclass(frozen=True, slots=True)
class Message:
    """What is sent to one address.

    Attributes
    ----------
    key : the same each time that it is tried, so that whoever receives it twice can tell
    alarms : what it is about, worst first
    link : the page of its alarm, or of all; empty where the installation has no address
    answer_link : where it can be acknowledged; empty where nothing is to be acknowledged
    picture : a PNG of the hour around it, if there is one
    """

    key: str
    subject: str
    text: str
    alarms: tuple[Told, ...]
    link: str = ""
    answer_link: str = ""
    picture: bytes = field(default=b"", repr=False)

    @property
    def severity(self) -> Severity:
        """The worst severity in it."""
        return max((each.severity for each in self.alarms), default=Severity.CLEARED)


class Undelivered(Exception):
    """A message could not be handed over: why, in words, and whether trying again may help."""

    def __init__(self, words: str, *, again: bool = True) -> None:
        super().__init__(words)
        self.words, self.again = words, again


@dataclass(frozen=True, slots=True)
class Blank:
    """One field of an address.

    Attributes
    ----------
    is_secret : it is never given back
    is_where : it says where messages go: the secrets of one receiver are not sent to another
    """

    name: str
    words: str
    hint: str = ""
    is_secret: bool = False
    is_required: bool = True
    is_where: bool = False


@dataclass(frozen=True, slots=True)
class Channel:
    """A way to send messages.

    Attributes
    ----------
    name : as it is stored
    words : on screen
    fields : what an address consists of
    check : what is wrong with an address is a Refusal; what is shown of it comes back
    send : hands a message over and says what was answered; Undelivered if that failed
    for_administrators : only they may set up addresses of it
    """

    name: str
    words: str
    fields: tuple[Blank, ...]
    check: Callable[[Target], str]
    send: Callable[[Target, Message], str]
    for_administrators: bool = False


CHANNELS: dict[str, Channel] = {}


def register(channel: Channel) -> Channel:
    """Make a channel known."""
    CHANNELS[channel.name] = channel
    return channel
