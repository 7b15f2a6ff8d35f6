"""Advice about credentials: what is likely to be a mistake, or easily guessed."""

DEFAULT_COMMUNITIES = frozenset(
    (
        "public",
        "private",
        "community",
        "admin",
        "default",
        "monitor",
        "password",
        "read",
        "secret",
        "snmp",
        "test",
        "write",
    )
)
WEAK_AUTH = {"md5": "MD5", "sha1": "SHA-1"}


def community_advice(community: str) -> list[str]:
    """What to mend about a community of version 1 or 2c."""
    advice = ["Version 1 and 2c send the community unencrypted; version 3 does not."]
    if community.strip().lower() in DEFAULT_COMMUNITIES:
        advice.insert(0, "This community is a well-known default: whoever reaches the device can read it.")
    advice += blanks_advice("The community", community)
    return advice


def user_advice(auth: str, priv: str, passwords: dict[str, str]) -> list[str]:
    """What to mend about a version 3 user; ``passwords`` by the word they are called by."""
    advice = []
    if not auth:
        advice.append("Without authentication anybody can pose as this user.")
    elif auth in WEAK_AUTH:
        advice.append(f"{WEAK_AUTH[auth]} is outdated; choose SHA-256 or better where the device has it (RFC 7860).")
    if auth and not priv:
        advice.append("Without privacy everything that is read travels in the clear.")
    if priv == "des":
        advice.append("DES is broken; choose AES where the device has it (RFC 3826).")
    if auth and priv and len(set(passwords.values())) < len(passwords):
        advice.append("Authentication and privacy have the same password.")
    for word, password in passwords.items():
        advice += blanks_advice(f"The {word} password", password)
    return advice


def blanks_advice(what: str, word: str) -> list[str]:
    """A word about blanks at the ends, which are kept."""
    if word == word.strip():
        return []
    ends = [name for name, cut in (("begins", word.lstrip()), ("ends", word.rstrip())) if cut != word]
    return [f"{what} {' and '.join(ends)} with a blank. It is kept as it is."]


def better_than_community(name: str) -> str:
    """The word for a device that answered to version 1 or 2c, and to version 3 as well."""
    return f"It answers to version 3 with {name} too: prefer that."
