"""Why devices do not do what they are asked, in words: reports of SNMPv3, and errors of a SET."""

from lumtar.wire import ber
from lumtar.wire.faults import FaultKind

REPORTS = {
    ber.oid_body("1.3.6.1.6.3.15.1.1.1.0"): (
        FaultKind.LEVEL,
        "answered, but does not allow this security level for this user",
    ),
    ber.oid_body("1.3.6.1.6.3.15.1.1.2.0"): (
        FaultKind.TIME_WINDOW,
        "answered, but its clock and ours are too far apart (not in time window)",
    ),
    ber.oid_body("1.3.6.1.6.3.15.1.1.3.0"): (FaultKind.UNKNOWN_USER, "answered, but does not know this user name"),
    ber.oid_body("1.3.6.1.6.3.15.1.1.4.0"): (FaultKind.GARBLED, "answered with another engine id each time"),
    ber.oid_body("1.3.6.1.6.3.15.1.1.5.0"): (
        FaultKind.WRONG_KEY,
        "answered, but rejected the user's authentication key (wrong password or protocol)",
    ),
    ber.oid_body("1.3.6.1.6.3.15.1.1.6.0"): (
        FaultKind.DECRYPTION,
        "answered, but could not decrypt the request (wrong privacy password or protocol)",
    ),
}
NOT_IN_TIME = ber.oid_body("1.3.6.1.6.3.15.1.1.2.0")
UNKNOWN_ENGINE = ber.oid_body("1.3.6.1.6.3.15.1.1.4.0")
NOT_SET = {
    "notWritable": "the device does not let this be changed (notWritable)",
    "readOnly": "the device does not let this be changed (readOnly)",
    "noAccess": "the device does not let this credential change it (noAccess)",
    "authorizationError": "the device does not let this credential change it (authorizationError)",
    "noSuchName": "the device has no such object, or does not let this credential change it (noSuchName)",
    "noCreation": "the device has no such object (noCreation)",
    "wrongValue": "the device does not take this value (wrongValue)",
    "wrongLength": "the device does not take a value of this length (wrongLength)",
    "badValue": "the device does not take this value (badValue)",
    "inconsistentValue": "the device does not take this value as it is set up now (inconsistentValue)",
    "commitFailed": "the device could not carry it out (commitFailed)",
    "resourceUnavailable": "the device has no room to carry it out (resourceUnavailable)",
}
"""Why a device did not set a value, in words (RFC 3416 section 4.2.5)."""
