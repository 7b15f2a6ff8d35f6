"""What managers of overlays and firewalls tell of: lists of devices, transports, tunnels, policies and alarms, whatever their form.

A profile says where each list is found in the answers of one make of controller, and each field in a row. A further kind of list
is one ``register`` here.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from lumtar.core.alarms.severity import Severity
from lumtar.core.refusal import Refusal

LONGEST = 300
"""Letters of a value that are kept."""
MOST_ROWS = 20_000
MOST_COMPLAINTS = 20
KEY = "id"


@dataclass(frozen=True, slots=True)
class ListField:
    """A field of the rows of a list; without one that is needed a row is left out."""

    name: str
    words: str
    is_needed: bool = False


@dataclass(frozen=True, slots=True)
class ListKind:
    """A kind of list.

    Attributes
    ----------
    name, words : as it is stored, and what its rows are called
    fields : beside the identifier, which is the name or the text where a controller has none
    has_state : its rows say whether they are up
    """

    name: str
    words: str
    fields: tuple[ListField, ...]
    has_state: bool = False

    @property
    def title(self) -> str:
        """The field that a row is called by: the first one."""
        return self.fields[0].name

    def names(self) -> tuple[str, ...]:
        """Of all fields, the identifier first."""
        return KEY, *(each.name for each in self.fields)


KINDS: dict[str, ListKind] = {}
"""In the order in which they are asked for and shown."""


def register(kind: ListKind) -> ListKind:
    """Make a kind of list known."""
    KINDS[kind.name] = kind
    return kind


DEVICE = register(
    ListKind(
        "device",
        "devices",
        (
            ListField("name", "name", is_needed=True),
            ListField("address", "address for SNMP", is_needed=True),
            ListField("serial", "serial number"),
            ListField("model", "model"),
            ListField("site", "site"),
            ListField("state", "state"),
        ),
        has_state=True,
    )
)
TRANSPORT = register(
    ListKind(
        "transport",
        "transports",
        (
            ListField("name", "name", is_needed=True),
            ListField("device", "device (its identifier or name)"),
            ListField("provider", "provider"),
            ListField("interface", "interface of the device"),
            ListField("state", "state"),
        ),
        has_state=True,
    )
)
TUNNEL = register(
    ListKind(
        "tunnel",
        "tunnels",
        (
            ListField("name", "name", is_needed=True),
            ListField("device", "device at one end", is_needed=True),
            ListField("peer", "device at the other end", is_needed=True),
            ListField("transport", "transport (its identifier or name)"),
            ListField("interface", "interface of the device"),
            ListField("state", "state"),
        ),
        has_state=True,
    )
)
POLICY = register(
    ListKind(
        "policy",
        "policies",
        (
            ListField("name", "name", is_needed=True),
            ListField("about", "application or service class"),
            ListField("transport", "transport that it prefers"),
            ListField("changed", "when it was changed"),
            ListField("changed_by", "by whom"),
        ),
    )
)
ALARM = register(
    ListKind(
        "alarm",
        "alarms",
        (
            ListField("text", "what happened", is_needed=True),
            ListField("device", "device (its identifier or name)"),
            ListField("tunnel", "tunnel (its identifier or name)"),
            ListField("transport", "transport (its identifier or name)"),
            ListField("interface", "interface of the device"),
            ListField("severity", "severity"),
            ListField("raised", "when it was raised"),
            ListField("cleared", "when it was cleared, or whether"),
        ),
    )
)

UP = frozenset(("up", "ok", "true", "1", "active", "online", "connected", "reachable", "established", "running"))
"""Words of states that are taken for well unless a profile says which are."""
SEVERITIES = {
    **{severity.word: severity for severity in Severity},
    "emergency": Severity.CRITICAL, "alert": Severity.CRITICAL, "high": Severity.MAJOR, "error": Severity.MAJOR,
    "medium": Severity.MINOR, "low": Severity.WARNING, "notice": Severity.WARNING, "info": Severity.INDETERMINATE,
    "informational": Severity.INDETERMINATE,
}  # fmt: skip
"""Severities by the words for them in RFC 8632, RFC 5424 and common speech."""
NOT_SO = frozenset(("", "false", "0", "no", "null", "none"))


@dataclass(frozen=True, slots=True)
class Listing:
    """Where a list is found.

    Attributes
    ----------
    path : what is asked for, behind the controller's address
    rows : a JSONPath (RFC 9535) to the rows within an answer
    fields : by name of the field, a JSONPath to it within a row
    next_page : a JSONPath to the address of the next page; empty if there is one page only
    up : words of a state that is well, in small letters; without any :data:`UP`
    """

    path: str
    rows: str
    fields: Mapping[str, str] = field(default_factory=dict)
    next_page: str = ""
    up: tuple[str, ...] = ()

    def is_up(self, state: str) -> bool | None:
        """Whether something in this state is well; None if it has none."""
        word = state.strip().lower()
        return (word in (self.up or UP)) if word else None


Row = dict[str, str]


@dataclass(slots=True)
class Told:
    """The rows of a list, each with all fields of its kind, and what was wrong with those that were left out."""

    rows: list[Row] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)


def check_listing(kind: ListKind, listing: Listing) -> Listing:
    """A listing as it is kept, but for its JSONPaths, which the wire checks.

    Raises
    ------
    Refusal
    """
    path = listing.path.strip()
    if not path.startswith("/") or "//" in path.partition("?")[0] or len(path) > LONGEST:
        raise Refusal(f"Say what is asked for the list of {kind.words}: a path such as /api/{kind.words}.")
    if unknown := set(listing.fields) - set(kind.names()):
        raise Refusal(f"Rows of {kind.words} have no field {sorted(unknown)[0]}.")
    fields = {name: listing.fields[name].strip() for name in kind.names() if listing.fields.get(name, "").strip()}
    if missing := [each.words for each in kind.fields if each.is_needed and each.name not in fields]:
        raise Refusal(f"Say where in a row of {kind.words} this is: {', '.join(missing)}.")
    up = tuple(dict.fromkeys(word.strip().lower() for word in listing.up if word.strip()))
    return Listing(path, listing.rows.strip(), fields, listing.next_page.strip(), up)


def read_rows(kind: ListKind, found: Iterable[Mapping[str, Any]]) -> Told:
    """The rows of a list as values that can be kept; what lacks something, or comes twice, is left out and told of.

    Parameters
    ----------
    found : by name of the field, what was found in each row
    """
    told, keys = Told(), set[str]()
    for number, values in enumerate(found, 1):
        row = {name: _text(values.get(name)) for name in kind.names()}
        row[KEY] = row[KEY] or row[kind.title]
        lacking = next((each for each in kind.fields if each.is_needed and not row[each.name]), None)
        if len(told.rows) >= MOST_ROWS:
            told.wrong.append(f"There are more than {MOST_ROWS} rows; the rest is left out.")
            break
        if lacking is not None:
            told.wrong.append(f"Row {number}{f' ({row[KEY]})' if row[KEY] else ''} has no {lacking.words}.")
        elif row[KEY] in keys:
            told.wrong.append(f"Row {number} has the identifier {row[KEY]} of another one.")
        else:
            keys.add(row[KEY])
            told.rows.append(row)
    if len(told.wrong) > MOST_COMPLAINTS:
        told.wrong[MOST_COMPLAINTS:] = [f"And {len(told.wrong) - MOST_COMPLAINTS} more."]
    return told


def _text(value: object) -> str:
    """A value as a line of text; what is neither a word nor a number is nothing."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    if not isinstance(value, str | int | float):
        return ""
    return " ".join("".join(letter if letter.isprintable() else " " for letter in str(value)).split())[:LONGEST]


def is_active(row: Row) -> bool:
    """Whether an alarm still stands."""
    return row["cleared"].lower() in NOT_SO


def severity_of(row: Row) -> Severity:
    """How severe an alarm is; numbers and words that are not known are a warning."""
    return SEVERITIES.get(row["severity"].lower(), Severity.WARNING)


WAYS = {
    "none": "nothing is asked",
    "basic": "name and password with each request (RFC 7617)",
    "bearer": "a token with each request (RFC 6750)",
    "header": "a key in a header of its own",
    "session": "name and password once, for a session",
}
"""How one signs in, and in words."""
SECRETS = {"none": (), "basic": ("user", "password"), "bearer": ("token",), "header": ("token",), "session": ("user", "password")}  # fmt: skip
"""What each way needs of whoever sets a controller up."""


@dataclass(frozen=True, slots=True)
class SignIn:
    """How one signs in to a make of controller.

    Attributes
    ----------
    way : one of :data:`WAYS`
    header : the name of the header that the key, or the token of a session, is sent in; empty is ``Authorization: Bearer``
    path : where name and password are sent to, as JSON, for a session
    user_field, password_field : their names in it
    token : a JSONPath to the token in the answer; empty if cookies carry the session
    """

    way: str = "none"
    header: str = ""
    path: str = ""
    user_field: str = "username"
    password_field: str = "password"
    token: str = ""


def check_sign_in(given: SignIn) -> SignIn:
    """A way to sign in as it is kept, but for its JSONPath.

    Raises
    ------
    Refusal
    """
    if given.way not in WAYS:
        raise Refusal(f"One signs in by one of: {', '.join(WAYS)}.", "sign_in")
    if given.way == "header" and not given.header.strip():
        raise Refusal("Say in which header the key is sent, such as X-Api-Key.", "sign_in")
    if given.way == "session" and not given.path.strip().startswith("/"):
        raise Refusal("Say where one signs in: a path such as /api/session.", "sign_in")
    if any(len(text) > LONGEST for text in (given.header, given.path, given.user_field, given.password_field)):
        raise Refusal(f"What signing in needs has up to {LONGEST} letters.", "sign_in")
    header = given.header.strip()
    if not all(letter.isascii() and (letter.isalnum() or letter == "-") for letter in header):
        raise Refusal("The name of a header has letters, digits and hyphens.", "sign_in")
    return SignIn(given.way, header, given.path.strip(), given.user_field.strip(), given.password_field.strip(), given.token.strip())  # fmt: skip
