"""Encryption at rest, with a key from the environment or from a key file.

``LUMTAR_KEY`` holds one or more keys separated by commas, the newest first: what is written is
encrypted with the first, what is read may be encrypted with any.
"""

import base64
import hashlib
import os
from functools import lru_cache
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken, MultiFernet


class SecretUnreadable(Exception):
    """A stored secret was encrypted with a key that is not there any more."""


def keys() -> list[str]:
    """The keys in force, newest first.

    Raises
    ------
    RuntimeError
        if none is set
    """
    text = os.environ.get("LUMTAR_KEY", "")
    if not text and (path := os.environ.get("LUMTAR_KEY_FILE")):
        text = Path(path).read_text().strip()
    listed = [key.strip() for key in text.split(",") if key.strip()]
    if not listed:
        raise RuntimeError("No key is set: put one into LUMTAR_KEY, or name a file that holds one in LUMTAR_KEY_FILE.")
    return listed


@lru_cache(maxsize=1)
def _box() -> MultiFernet:
    return MultiFernet([Fernet(base64.urlsafe_b64encode(hashlib.sha256(key.encode()).digest())) for key in keys()])


def seal(plain: str) -> str:
    """Encrypt."""
    return _box().encrypt(plain.encode()).decode()


def unseal(sealed: str) -> str:
    """Decrypt.

    Raises
    ------
    SecretUnreadable
    """
    try:
        return _box().decrypt(sealed.encode()).decode()
    except InvalidToken as error:
        raise SecretUnreadable(
            "This secret was encrypted with another key; enter it again or bring the key back."
        ) from error
