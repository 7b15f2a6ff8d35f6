"""The wire layer against Debian's snmpd."""

import socket
import subprocess

import pytest

from bench.ports import free_port
from lumtar.core.text import clean
from lumtar.wire import ber, oids, pdu, usm
from lumtar.wire.faults import Fault, FaultKind
from lumtar.wire.session import Community, Patience, Session
from lumtar.wire.tables import read_columns
from lumtar.wire.transport import Transport, resolve

QUICK = Patience(0.6, 2)
SHA, SHA256, AES = usm.AuthProtocol.SHA1, usm.AuthProtocol.SHA256, usm.PrivProtocol.AES128
Auth, Priv = usm.AuthProtocol, usm.PrivProtocol
RIGHT = {
    "v1": Community("correct-word", pdu.VERSION_1),
    "v2c": Community("correct-word"),
    "v3 noAuthNoPriv": usm.User("gwen"),
    "v3 SHA-512": usm.User("fern", Auth.SHA512, "authenticate-me"),
    "v3 MD5/DES": usm.User("cleo", Auth.MD5, "authenticate-me", Priv.DES, "keep-it-private"),
    "v3 SHA/AES-192": usm.User("dora", Auth.SHA1, "authenticate-me", Priv.AES192, "keep-it-private"),
    "v3 SHA-224/AES-256": usm.User("emil", Auth.SHA224, "authenticate-me", Priv.AES256, "keep-it-private"),
    "v3 SHA/AES": usm.User("anna", SHA, "authenticate-me", AES, "keep-it-private"),
    "v3 SHA-256/AES": usm.User("bert", SHA256, "authenticate-me", AES, "keep-it-private"),
}


@pytest.fixture
async def transport():
    made = Transport()
    yield made
    made.close()


def session(transport, snmpd, credential, port=None):
    return Session(transport, socket.AF_INET, ("127.0.0.1", port or snmpd.port), credential, QUICK)


@pytest.mark.parametrize("credential", RIGHT.values(), ids=RIGHT)
async def test_the_system_group_is_what_the_other_tool_reads(transport, snmpd, credential):
    command = ["snmpget", "-v2c", "-ccorrect-word", "-Oqv", f"127.0.0.1:{snmpd.port}", "1.3.6.1.2.1.1.1.0"]
    theirs = subprocess.run(command, capture_output=True, text=True, check=True).stdout.strip().strip('"')
    ours = await session(transport, snmpd, credential).get([oids.SYS_DESCR, oids.SYS_LOCATION, oids.SYS_UPTIME])
    assert clean(ours.values[0]) == theirs
    assert ours.values[1] == b"Depot, rack 4"
    assert ours.tags[2] == ber.TIME_TICKS


@pytest.mark.parametrize("credential", RIGHT.values(), ids=RIGHT)
async def test_names_and_states_of_all_interfaces(transport, snmpd, credential):
    command = ["snmpbulkwalk", "-v2c", "-ccorrect-word", "-Oqv", f"127.0.0.1:{snmpd.port}", "1.3.6.1.2.1.2.2.1.2"]
    theirs = subprocess.run(command, capture_output=True, text=True, check=True).stdout.split("\n")[:-1]
    found = await read_columns(session(transport, snmpd, credential), [oids.IF_DESCR, oids.IF_IN_OCTETS, oids.IF_TYPE])
    assert [clean(value) for value in found[0].values] == [line.strip('"') for line in theirs]
    assert found[0].indexes == found[1].indexes == found[2].indexes
    assert all(isinstance(value, int) for value in found[1].values)


async def test_only_version_1_has_no_wide_counters(transport, snmpd):
    wide = [oids.IF_HC_IN_OCTETS]
    assert (await read_columns(session(transport, snmpd, RIGHT["v2c"]), wide))[0].values
    assert (await read_columns(session(transport, snmpd, RIGHT["v1"]), wide))[0].values == []


async def test_version_1_reads_what_is_there_and_leaves_the_rest_absent(transport, snmpd):
    missing = ber.oid_body("1.3.6.1.2.1.2.2.1.2.99999")
    found = await session(transport, snmpd, RIGHT["v1"]).get([missing, oids.SYS_LOCATION, missing, oids.SYS_UPTIME])
    assert [tag in ber.ABSENT for tag in found.tags] == [True, False, True, False]
    assert found.values[1] == b"Depot, rack 4"


@pytest.mark.parametrize("credential", [RIGHT["v1"], RIGHT["v2c"], RIGHT["v3 SHA/AES"]])
async def test_ipv6(transport, snmpd, credential):
    made = Session(transport, socket.AF_INET6, ("::1", snmpd.port), credential, QUICK)
    assert (await made.get([oids.SYS_LOCATION])).values == [b"Depot, rack 4"]


async def test_what_is_not_there_is_absent(transport, snmpd):
    found = await session(transport, snmpd, RIGHT["v2c"]).get(
        [ber.oid_body("1.3.6.1.2.1.2.2.1.2.99999"), oids.SYS_NAME]
    )
    assert found.tags[0] in ber.ABSENT
    assert found.tags[1] == ber.OCTET_STRING
    assert (await read_columns(session(transport, snmpd, RIGHT["v2c"]), [ber.oid_body("1.3.6.1.4.1.32473.9")]))[
        0
    ].values == []


WRONG = [
    (Community("wrong-word"), FaultKind.NO_ANSWER, "a wrong community looks the same"),
    (
        usm.User("nobody", SHA, "authenticate-me", AES, "keep-it-private"),
        FaultKind.UNKNOWN_USER,
        "does not know this user",
    ),
    (
        usm.User("anna", SHA, "authenticate-you", AES, "keep-it-private"),
        FaultKind.WRONG_KEY,
        "rejected the user's authentication key",
    ),
    (usm.User("anna", SHA256, "authenticate-me", AES, "keep-it-private"), FaultKind.WRONG_KEY, "authentication key"),
    (usm.User("anna", SHA, "authenticate-me", AES, "keep-it-publicly"), FaultKind.DECRYPTION, "privacy password"),
    (usm.User("anna", SHA, "authenticate-me"), FaultKind.REFUSED, "refused access"),
    (usm.User("anna", SHA, "short", AES, "keep-it-private"), FaultKind.CREDENTIAL, "8 characters"),
]


@pytest.mark.parametrize(("credential", "kind", "words"), WRONG, ids=[f"{kind}: {words}" for _, kind, words in WRONG])
async def test_each_wrong_credential_has_its_own_words(transport, snmpd, credential, kind, words):
    with pytest.raises(Fault, match=words) as met:
        await session(transport, snmpd, credential).get([oids.SYS_UPTIME])
    assert met.value.kind is kind


async def test_a_closed_port_is_told_from_silence(transport, snmpd):
    with pytest.raises(Fault, match="closed: the host answers") as met:
        await session(transport, snmpd, RIGHT["v2c"], free_port()).get([oids.SYS_UPTIME])
    assert met.value.kind is FaultKind.PORT_CLOSED


def test_an_unknown_name():
    with pytest.raises(Fault, match=r"'no-such-host\.invalid' is not known") as met:
        resolve("no-such-host.invalid", 161)
    assert met.value.kind is FaultKind.UNKNOWN_NAME


@pytest.mark.parametrize(("text", "family"), [("127.0.0.1", socket.AF_INET), ("::1", socket.AF_INET6)])
def test_addresses_of_both_families(text, family):
    assert resolve(text, 161) == (family, (text, 161))


async def test_many_at_once_share_one_socket(transport, snmpd):
    import asyncio

    sessions = [session(transport, snmpd, RIGHT["v2c"]) for _ in range(60)]
    answers = await asyncio.gather(*(each.get([oids.SYS_UPTIME]) for each in sessions))
    assert len(answers) == 60
    assert transport.counts["late or unasked"] == 0


NAME, CONTACT = "1.3.6.1.2.1.1.5.0", "1.3.6.1.2.1.1.4.0"
HUGO = usm.User("hugo", SHA256, "authenticate-me", AES, "keep-it-private")


@pytest.mark.parametrize(
    "credential", [Community("write-word"), Community("write-word", pdu.VERSION_1), HUGO], ids=["v2c", "v1", "v3"]
)
async def test_what_is_set_is_what_the_other_tool_reads(transport, snmpd, credential):
    words = f"named by {type(credential).__name__}"
    await session(transport, snmpd, credential).set(ber.oid_body(NAME), ber.tlv(ber.OCTET_STRING, words.encode()))
    command = ["snmpget", "-v2c", "-ccorrect-word", "-Oqv", f"127.0.0.1:{snmpd.port}", NAME]
    theirs = subprocess.run(command, capture_output=True, text=True, check=True).stdout.strip().strip('"')
    assert theirs == words


@pytest.mark.parametrize(
    ("credential", "oid", "value", "words"),
    [
        (Community("correct-word"), NAME, ber.tlv(ber.OCTET_STRING, b"no"), "this credential"),
        (RIGHT["v3 SHA/AES"], NAME, ber.tlv(ber.OCTET_STRING, b"no"), "this credential"),
        (
            Community("write-word"),
            "1.3.6.1.2.1.1.1.0",
            ber.tlv(ber.OCTET_STRING, b"no"),
            "does not let this be changed",
        ),
        (Community("write-word"), NAME, ber.integer(7), "wrongType"),
        (Community("write-word", pdu.VERSION_1), "1.3.6.1.2.1.1.1.0", ber.integer(7), "noSuchName"),
    ],
)
async def test_what_may_not_be_set_has_its_reason(transport, snmpd, credential, oid, value, words):
    with pytest.raises(Fault, match=words) as caught:
        await session(transport, snmpd, credential).set(ber.oid_body(oid), value)
    assert caught.value.kind is FaultKind.NOT_SET
