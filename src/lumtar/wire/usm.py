"""The user-based security model of SNMP version 3 (RFC 3414, RFC 3826, RFC 7860)."""

import hashlib
import hmac
import os
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache

from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.algorithms import AES

try:
    from cryptography.hazmat.decrepit.ciphers.modes import CFB
except ImportError:
    from cryptography.hazmat.primitives.ciphers.modes import CFB
from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
from cryptography.hazmat.primitives.ciphers.modes import CBC

from lumtar.core.refusal import Refusal
from lumtar.wire import ber
from lumtar.wire.ber import Malformed

MODEL = 3
AUTH, PRIV, REPORTABLE = 1, 2, 4
LARGEST = 65507
TIME_WINDOW = 150
"""Seconds that two engines' clocks may differ (RFC 3414 section 2.2.3)."""


class AuthProtocol(StrEnum):
    """HMAC protocols by the name of their hash."""

    MD5 = "md5"
    SHA1 = "sha1"
    SHA224 = "sha224"
    SHA256 = "sha256"
    SHA384 = "sha384"
    SHA512 = "sha512"


class PrivProtocol(StrEnum):
    """Encryption protocols.

    Keys longer than the hash are extended in two ways, and makers differ in which one they took.
    """

    DES = "des"
    AES128 = "aes128"
    AES192 = "aes192"
    AES256 = "aes256"
    AES192_REEDER = "aes192-reeder"
    AES256_REEDER = "aes256-reeder"


PRIVACY_KEY = {"des": 16, "aes128": 16, "aes192": 24, "aes256": 32, "aes192-reeder": 24, "aes256-reeder": 32}
"""Octets of a privacy key; DES needs 8 for the key and 8 towards the vector."""
SIGNATURE = {"md5": 12, "sha1": 12, "sha224": 16, "sha256": 24, "sha384": 32, "sha512": 48}
"""Octets of the truncated HMAC (RFC 3414 section 6, RFC 7860 section 4)."""


@dataclass(frozen=True, slots=True)
class User:
    """Who asks. Without ``auth`` the level is noAuthNoPriv, without ``priv`` authNoPriv. Passwords never print."""

    name: str
    auth: AuthProtocol | None = None
    auth_password: str = field(default="", repr=False)
    priv: PrivProtocol | None = None
    priv_password: str = field(default="", repr=False)

    @property
    def level(self) -> int:
        """MsgFlags for the user's own level."""
        return (AUTH if self.auth else 0) | (PRIV if self.auth and self.priv else 0)


@lru_cache(maxsize=4096)
def localized_key(protocol: AuthProtocol, password: str, engine_id: bytes) -> bytes:
    """The key of a password at one engine (RFC 3414 appendix A.2)."""
    digest = password_key(protocol, password)
    return hashlib.new(protocol, digest + engine_id + digest).digest()


@lru_cache(maxsize=256)
def password_key(protocol: AuthProtocol, password: str) -> bytes:
    """The key of a password: the hash of a mebibyte of its repetitions.

    Raises
    ------
    ValueError
        if the password is shorter than RFC 3414 section 11.2 allows
    """
    raw = password.encode()
    if len(raw) < 8:
        raise Refusal("An SNMP version 3 password has at least 8 characters.")
    return _repeated_hash(protocol, raw)


def _repeated_hash(protocol: AuthProtocol, raw: bytes) -> bytes:
    size = 1 << 20
    return hashlib.new(protocol, (raw * (size // len(raw) + 1))[:size]).digest()


def sign(protocol: AuthProtocol, key: bytes, message: bytes) -> bytes:
    """The truncated HMAC of a whole message whose signature field holds zeros."""
    return hmac.new(key, message, protocol.value).digest()[: SIGNATURE[protocol]]


@lru_cache(maxsize=4096)
def privacy_key(auth: AuthProtocol, priv: PrivProtocol, password: str, engine_id: bytes) -> bytes:
    """The key of a privacy password at one engine, as long as its protocol needs it.

    A hash that is too short is extended by hashing what there is (draft-blumenthal-aes-usm-04
    section 3.1.2.1) or by localizing it once more as if it were a password (draft-reeder-snmpv3-usm-3desede-00
    section 2.1).
    """
    key = localized_key(auth, password, engine_id)
    last = key
    while len(key) < PRIVACY_KEY[priv]:
        if priv.endswith("reeder"):
            digest = _repeated_hash(auth, last)
            last = hashlib.new(auth, digest + engine_id + digest).digest()
        else:
            last = hashlib.new(auth, key).digest()
        key += last
    return key[: PRIVACY_KEY[priv]]


def _cipher(protocol: PrivProtocol, key: bytes, boots: int, time: int, salt: bytes) -> Cipher[CFB] | Cipher[CBC]:
    if protocol is PrivProtocol.DES:
        vector = bytes(a ^ b for a, b in zip(key[8:], salt, strict=True))
        # Three equal keys make triple DES the single one of RFC 3414.
        return Cipher(TripleDES(key[:8] * 3), CBC(vector))
    return Cipher(AES(key), CFB(boots.to_bytes(4, "big") + time.to_bytes(4, "big") + salt))


def encrypt(protocol: PrivProtocol, key: bytes, boots: int, time: int, salt: bytes, plain: bytes) -> bytes:
    """AES in cipher feedback mode (RFC 3826 section 3.1), or DES in cipher block chaining (RFC 3414 section 8)."""
    if protocol is PrivProtocol.DES:
        plain += bytes(-len(plain) % 8)
    return _cipher(protocol, key, boots, time, salt).encryptor().update(plain)


def decrypt(protocol: PrivProtocol, key: bytes, boots: int, time: int, salt: bytes, secret: bytes) -> bytes:
    """The inverse of :func:`encrypt`; DES leaves its padding.

    Raises
    ------
    Malformed
        if this cannot have been encrypted so
    """
    if len(salt) != 8 or (protocol is PrivProtocol.DES and len(secret) % 8):
        raise Malformed("it is not encrypted in the way that was agreed")
    return _cipher(protocol, key, boots, time, salt).decryptor().update(secret)


@dataclass(slots=True)
class Message:
    """A version 3 message with its parts still as they travelled.

    ``body`` is the scoped PDU, encrypted if the flags say so. ``signature_at`` is where the
    signature stands in the message's octets.
    """

    message_id: int
    flags: int
    engine_id: bytes
    boots: int
    time: int
    user: bytes
    signature: bytes
    salt: bytes
    body: bytes
    signature_at: int


def read_message(data: bytes) -> Message:
    """Take a version 3 message apart (RFC 3412 section 6).

    Raises
    ------
    Malformed
    """
    _, at, _ = ber.read(data, 0, ber.SEQUENCE)
    version, at = ber.read_integer(data, at)
    if version != 3:
        raise Malformed(f"the message is of version number {version}, not 3")
    _, inner, at = ber.read(data, at, ber.SEQUENCE)
    message_id, inner = ber.read_integer(data, inner)
    _, inner = ber.read_integer(data, inner)
    flags, inner = ber.read_octets(data, inner)
    model, _ = ber.read_integer(data, inner)
    if model != MODEL or len(flags) != 1:
        raise Malformed(f"security model {model} is not the user-based one")
    _, inner, at = ber.read(data, at, ber.OCTET_STRING)
    _, inner, _ = ber.read(data, inner, ber.SEQUENCE)
    engine_id, inner = ber.read_octets(data, inner)
    boots, inner = ber.read_integer(data, inner)
    time, inner = ber.read_integer(data, inner)
    user, inner = ber.read_octets(data, inner)
    _, signature_at, after = ber.read(data, inner, ber.OCTET_STRING)
    salt, _ = ber.read_octets(data, after)
    if flags[0] & PRIV:
        body, _ = ber.read_octets(data, at)
    else:
        _, _, end = ber.read(data, at, ber.SEQUENCE)
        body = data[at:end]
    return Message(
        message_id, flags[0], engine_id, boots, time, user, data[signature_at:after], salt, body, signature_at
    )


def verify(protocol: AuthProtocol, key: bytes, message: Message, data: bytes) -> bool:
    """Whether the message's signature is right."""
    size = len(message.signature)
    blank = data[: message.signature_at] + bytes(size) + data[message.signature_at + size :]
    return hmac.compare_digest(sign(protocol, key, blank), message.signature)


def scoped(engine_id: bytes, context: bytes, pdu: bytes) -> bytes:
    """A scoped PDU (RFC 3412 section 6.8)."""
    return ber.tlv(ber.SEQUENCE, ber.tlv(ber.OCTET_STRING, engine_id) + ber.tlv(ber.OCTET_STRING, context) + pdu)


def scoped_pdu_at(body: bytes) -> int:
    """Where the PDU begins in a scoped PDU.

    Raises
    ------
    Malformed
    """
    _, at, _ = ber.read(body, 0, ber.SEQUENCE)
    _, at = ber.read_octets(body, at)
    return ber.read_octets(body, at)[1]


def write_message(
    message_id: int, flags: int, engine_id: bytes, boots: int, time: int, user: User, plain: bytes
) -> bytes:
    """A version 3 message: the scoped PDU ``plain``, encrypted and signed as ``flags`` ask.

    Raises
    ------
    ValueError
        if a password is too short
    """
    signature = salt = b""
    auth_key = b""
    if flags & AUTH:
        assert user.auth is not None
        auth_key = localized_key(user.auth, user.auth_password, engine_id)
        signature = bytes(SIGNATURE[user.auth])
    if flags & PRIV:
        assert user.auth is not None and user.priv is not None
        # DES wants the engine's boots in its salt, AES any salt that does not come again.
        salt = (boots.to_bytes(4, "big") if user.priv is PrivProtocol.DES else os.urandom(4)) + os.urandom(4)
        key = privacy_key(user.auth, user.priv, user.priv_password, engine_id)
        plain = ber.tlv(ber.OCTET_STRING, encrypt(user.priv, key, boots, time, salt, plain))
    header = (
        ber.integer(message_id) + ber.integer(LARGEST) + ber.tlv(ber.OCTET_STRING, bytes((flags,))) + ber.integer(MODEL)
    )
    parameters = (
        ber.tlv(ber.OCTET_STRING, engine_id)
        + ber.integer(boots)
        + ber.integer(time)
        + ber.tlv(ber.OCTET_STRING, user.name.encode())
        + ber.tlv(ber.OCTET_STRING, signature)
        + ber.tlv(ber.OCTET_STRING, salt)
    )
    security = ber.tlv(ber.OCTET_STRING, ber.tlv(ber.SEQUENCE, parameters))
    whole = ber.tlv(ber.SEQUENCE, ber.integer(3) + ber.tlv(ber.SEQUENCE, header) + security + plain)
    if flags & AUTH:
        assert user.auth is not None
        at = whole.index(security) + len(security) - len(ber.tlv(ber.OCTET_STRING, salt)) - len(signature)
        whole = whole[:at] + sign(user.auth, auth_key, whole) + whole[at + len(signature) :]
    return whole
