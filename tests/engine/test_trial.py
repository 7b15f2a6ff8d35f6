"""Trying a device out: what is asked, what is said, and which credential is chosen."""

import asyncio
import time

import pytest

from bench.ports import free_port
from lumtar.engine.trial import Candidate, Trial
from lumtar.wire import pdu, usm
from lumtar.wire.icmp import Pinger
from lumtar.wire.session import Community, Patience
from lumtar.wire.transport import Transport
from tests.lab.boxes import COMMUNITY, agent, box

QUICK = Patience(0.3, 2)
USER = usm.User("anna", usm.AuthProtocol.SHA256, "authenticate-me", usm.PrivProtocol.AES128, "keep-it-private")


@pytest.fixture
async def sockets():
    transport, pinger = Transport(), Pinger()
    yield transport, pinger
    transport.close()
    pinger.close()


@pytest.fixture
async def stand_in(loopback):
    running = agent(box(address=next(loopback), ports=5), free_port(), time.time())
    yield running
    running.close()


@pytest.fixture
def quick():
    """Nothing here needs the database, and nothing waits for a minute."""


async def tried(sockets, place, *candidates, tcp_port=None, brief=False):
    trial = Trial(*sockets, QUICK, brief)
    steps = [step async for step in trial.run(*place, candidates, tcp_port)]
    return trial.outcome, steps


def words(steps, title):
    return next(step.words for step in steps if step.title == title)


RIGHT = Candidate(1, "Right", Community(COMMUNITY))
WRONG = Candidate(2, "Wrong", Community("not-this-one"))
OLD = Candidate(3, "Old", Community(COMMUNITY, pdu.VERSION_1))


async def test_the_first_in_the_order_that_answers_is_chosen(sockets, stand_in):
    outcome, _ = await tried(sockets, stand_in.address, WRONG, OLD, RIGHT)
    assert (outcome.credential, outcome.credential_name) == (3, "Old")
    outcome, _ = await tried(sockets, stand_in.address, WRONG, RIGHT, OLD)
    assert (outcome.credential, outcome.ports, outcome.name) == (1, 5, "tst-acc-1")


async def test_it_takes_no_longer_than_its_slowest_step(sockets, stand_in):
    silent = [Candidate(10 + n, f"Silent {n}", Community(f"silent-{n}")) for n in range(12)]
    began = time.monotonic()
    _, steps = await tried(sockets, stand_in.address, *silent, RIGHT)
    assert time.monotonic() - began < 12 * QUICK.timeout
    assert sum("a wrong community looks the same" in step.words for step in steps) == 12


async def test_what_answers_comes_before_what_does_not(sockets, stand_in):
    _, steps = await tried(sockets, stand_in.address, WRONG, RIGHT)
    titles = [step.title for step in steps]
    assert titles.index("Right") < titles.index("Wrong") < titles.index("what it is")
    assert [step.at_ms >= 0 and step.took_ms >= 0 for step in steps] == [True] * len(steps)


async def test_a_brief_one_reads_the_name_only(sockets, stand_in):
    outcome, steps = await tried(sockets, stand_in.address, RIGHT, brief=True)
    assert (outcome.name, outcome.ports, outcome.maker) == ("tst-acc-1", 0, "")
    assert "what it is" not in [step.title for step in steps]


async def test_an_open_port_a_closed_one_and_an_echo(sockets, loopback):
    server = await asyncio.start_server(lambda reader, writer: writer.close(), "127.0.0.1", 0)
    port = server.sockets[0].getsockname()[1]
    outcome, steps = await tried(sockets, ("127.0.0.1", free_port()), RIGHT, tcp_port=port)
    assert outcome.ways == ["icmp", "tcp"] and outcome.credential is None
    assert "closed" in words(steps, "Right") and "answers after" in words(steps, f"TCP {port}")
    server.close()


async def test_without_a_credential_it_says_so(sockets, stand_in):
    outcome, steps = await tried(sockets, stand_in.address)
    assert outcome.ways == ["icmp"]
    assert words(steps, "SNMP") == "no credential was tried"


async def test_a_name_that_leads_to_this_machine(sockets, stand_in):
    outcome, steps = await tried(sockets, ("localhost", free_port()), RIGHT)
    assert outcome.address in ("127.0.0.1", "::1")
    assert words(steps, "name") == f"is {outcome.address}"


async def test_ipv6(sockets):
    running = agent(box(address="::1", ports=2), free_port(), time.time())
    outcome, _ = await tried(sockets, running.address, RIGHT)
    assert (outcome.ways, outcome.ports) == (["snmp", "icmp"], 2)
    running.close()


async def test_version_3_with_each_thing_wrong_has_its_own_words(sockets, loopback):
    running = agent(box(address=next(loopback)), free_port(), time.time(), USER)
    wrong = {
        "user": usm.User("bert", USER.auth, USER.auth_password, USER.priv, USER.priv_password),
        "key": usm.User("anna", USER.auth, "something-else", USER.priv, USER.priv_password),
        "level": usm.User("anna", USER.auth, USER.auth_password),
        "privacy": usm.User("anna", USER.auth, USER.auth_password, USER.priv, "something-else"),
    }
    candidates = [Candidate(number, name, user) for number, (name, user) in enumerate(wrong.items(), 1)]
    outcome, steps = await tried(sockets, running.address, *candidates, Candidate(9, "right", USER))
    assert "does not know this user" in words(steps, "user")
    assert "rejected the user's authentication key" in words(steps, "key")
    assert "does not allow this security level" in words(steps, "level")
    assert "privacy password" in words(steps, "privacy")
    assert outcome.credential == 9
    running.close()
