"""What one poll asks for, and what it leaves for later."""

import socket

import pytest

from lumtar.core.discovery import ComponentDescribed
from lumtar.engine.collector import components, reading
from lumtar.engine.collector.reading import Plan, poll
from lumtar.wire import ber
from lumtar.wire.pdu import VarBinds
from lumtar.wire.session import Community, Session
from lumtar.wire.transport import Transport
from tests.lab.boxes import COMMUNITY

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
async def session(stand_in):
    transport = Transport()
    yield Session(transport, socket.AF_INET, stand_in.address, Community(COMMUNITY))
    transport.close()


async def test_what_moves_slowly_is_left_out_of_polls_in_quick_succession(session, monkeypatch):
    plan = Plan()
    first, second = await poll(session, plan), await poll(session, plan)
    kinds = {kind for kind, _ in first.components}
    assert {"processor", "sensor", "memory", "fan", "supply", "poe used"} <= kinds
    assert {kind for kind, _ in second.components} == {"processor"}
    assert second.indexes == first.indexes and second.requests < first.requests
    monkeypatch.setattr(reading, "SELDOM", 0.0)
    third = await poll(session, plan)
    # States that did not change are not told again.
    assert {kind for kind, _ in third.components} == kinds - {"fan", "supply", "poe port"}


class Listener:
    """Stands for a session: notes what is asked for, and has none of it."""

    def __init__(self) -> None:
        self.asked: list[list[bytes]] = []

    async def get(self, oids):
        self.asked.append(list(oids))
        return VarBinds(list(oids), [ber.NO_SUCH_INSTANCE] * len(oids), [0] * len(oids))


async def test_no_request_asks_for_more_than_an_answer_holds():
    described = [ComponentDescribed("processor", str(n), "", "%", 1.0) for n in range(1, 60)]
    described += [ComponentDescribed("storage", str(n), "", "%", 1.0) for n in range(1, 60)]
    described += [ComponentDescribed("object", f"1.3.6.1.4.1.32473.1.{n}", "", "", 1.0) for n in range(1, 60)]
    asked, listener = [components.ask(part) for part in described], Listener()
    assert await components.read_components(listener, asked, {}) == {}
    assert [oid for oids in listener.asked for oid in oids] == [oid for each in asked for oid in each.oids]
    own = ber.oid_body("1.3.6.1.4.1.32473")
    taken = [sum(2 if oid.startswith(own) else 1 for oid in oids) for oids in listener.asked]
    assert max(taken) <= components.AT_ONCE
    # As few requests as there can be.
    assert len(taken) == -(-sum(taken) // components.AT_ONCE)
