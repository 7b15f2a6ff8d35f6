"""Response times from records to rows: minutes stay open, close once, and never grow without bounds."""

import numpy as np

from lumtar.core.flows.declared import Declared, Part
from lumtar.core.flows.lookups import Interfaces
from lumtar.core.flows.records import address_numbers
from lumtar.core.flows.response_times import RESPONSES
from lumtar.engine.flows.answering import GRACE_MINUTES, Answering
from lumtar.engine.flows.inventory import Known
from lumtar.engine.flows.totals import Totals
from tests.wire.test_flows import HERE, NOW, TIMED, data_set, ipfix, ipfix_template, timed_row

NOW_MINUTE = NOW // 60


def row(minute, server=1, us=1000):
    made = np.zeros(1, RESPONSES)
    made["minute"], made["server_lo"], made["server_us"], made["server_number"] = minute, server, us, 1
    return made


def test_a_minute_closes_once_when_nothing_more_is_awaited_for_it():
    answering = Answering()
    for us in (1000, 3000):
        answering.add(row(100, us=us))
    answering.add(row(101))
    assert len(answering.closed(60.0 * (100 + GRACE_MINUTES))) == 0
    (found,) = answering.closed(60.0 * (101 + GRACE_MINUTES))
    assert (int(found["minute"]), int(found["server_us"]), int(found["server_number"])) == (100, 4000, 2)
    assert len(answering.closed(60.0 * (101 + GRACE_MINUTES))) == 0
    assert answering.closed(0.0, whole=True)["minute"].tolist() == [101]


def test_rows_are_bounded_and_what_is_put_together_is_not_lost(monkeypatch):
    monkeypatch.setattr("lumtar.engine.flows.answering.MOST_ROWS", 50)
    monkeypatch.setattr("lumtar.engine.flows.answering.KEPT_ONE_BY_ONE", 10)
    answering = Answering()
    for server in range(1, 301):
        answering.add(row(100 + server % 2, server))
    found = answering.closed(60.0 * 100)
    assert set(found["minute"].tolist()) == {100}, "the oldest minute is closed early"
    assert len(found) == 11 and int(found["server_number"].sum()) == 150
    assert found["is_rest"].sum() == 1 and not found["server_lo"][found["is_rest"] == 1].any()


def test_times_of_records_come_to_the_server_of_their_service():
    made = Totals()
    made.exporters.declare([Declared(32473, 1, Part.NETWORK), Declared(32473, 2, Part.SERVER)])
    made.known = Known(devices={HERE: 7}, interfaces={7: Interfaces.of({})})
    fields = [*TIMED, (1, 4, 32473), (2, 4, 32473)]
    rows = [timed_row(24_000, 90_000, layout=">II"), timed_row(0, 0, layout=">II")]
    made.take([(ipfix(0, ipfix_template(256, fields), data_set(256, *rows)), HERE)], float(NOW))
    (found,) = made.answering.closed(0.0, whole=True)
    assert (int(found["server_hi"]), int(found["server_lo"])) == address_numbers("10.0.0.9")
    assert (int(found["device"]), int(found["port"]), int(found["application"])) == (7, 443, 1)
    assert (int(found["network_us"]), int(found["server_us"]), int(found["minute"])) == (24_000, 90_000, NOW_MINUTE - 1)
