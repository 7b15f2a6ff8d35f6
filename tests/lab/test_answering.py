"""What the scenario's exporters tell of response times, and what its paths take."""

import numpy as np
import pytest

from lab.answering import LONGEST_QUEUE_MS, SERVER_MS, is_asking, microseconds
from lab.incidents import SLOW_SERVERS
from lab.paths import LONGEST_QUEUE_MS as LONGEST_OF_A_PATH
from lab.paths import QUEUED, Worse, way_to
from lumtar.core.flows.records import address_numbers, empty

EPOCH = 1_795_440_000.0


def asking(*rows):
    """Records of (server, port of the service, protocol)."""
    made = empty(len(rows))
    for place, (server, port, protocol) in enumerate(rows):
        made["src_hi"][place], made["src_lo"][place] = address_numbers("10.9.20.7")
        made["dst_hi"][place], made["dst_lo"][place] = address_numbers(server)
        made["src_port"][place], made["dst_port"][place], made["protocol"][place] = 50_123, port, protocol
    return made


def test_only_requests_over_tcp_are_measured():
    rows = asking(("10.0.10.200", 8080, 6), ("10.0.10.200", 53, 17))
    back = rows[:1].copy()
    back["src_port"], back["dst_port"] = 8080, 50_123
    rows = np.concatenate((rows, back))
    assert is_asking(rows).tolist() == [True, False, False]
    told = microseconds(rows, 0.2, EPOCH, EPOCH, {})
    assert (told[0] > 0).all() and not told[1:].any()


def test_servers_that_are_elsewhere_are_farther_away_and_a_full_link_queues():
    rows = asking(("10.0.10.200", 443, 6), ("198.51.100.7", 443, 6), ("2001:db8:f00d::7", 443, 6))
    calm, full = (microseconds(rows, load, EPOCH - 86_400, EPOCH, {})[:, 0] / 1000 for load in (0.2, 1.2))
    assert calm[0] < 9 < calm[1] and calm[2] > 9
    assert (full - calm > 50).all() and (full <= LONGEST_QUEUE_MS + 20).all()


@pytest.mark.parametrize("slow", SLOW_SERVERS)
def test_a_server_is_slow_while_its_incident_lasts_and_the_network_is_not(slow):
    rows = asking((slow.address, slow.port, 6), ("10.0.10.200", slow.port, 6))
    before, during = (
        microseconds(rows, 0.2, EPOCH + at, EPOCH, {}) / 1000 for at in (slow.start - 120, slow.start + 120)
    )
    assert during[0, 1] == slow.ms and during[1, 1] < 2 * SERVER_MS[slow.port]
    assert before[0, 1] < 2 * SERVER_MS[slow.port] and (abs(during[:, 0] - before[:, 0]) < 5).all()


def test_a_service_is_made_slow_by_hand():
    told = microseconds(asking(("10.1.10.200", 5432, 6)), 0.2, EPOCH, EPOCH, {5432: 3000.0})
    assert 2000 < told[0, 1] / 1000 < 4000


@pytest.mark.parametrize("dscp", [46, 18, 10, 0])
def test_a_class_waits_for_its_part_of_a_queue(dscp):
    calm, full = (way_to("Hexwater", load, dscp) for load in (0.0, 1.1))
    waited = full.delay_ms - calm.delay_ms
    assert waited == pytest.approx(QUEUED.get(dscp, 1.0) * LONGEST_OF_A_PATH, rel=0.01)
    assert full.jitter_ms > calm.jitter_ms and full.loss > 100 * calm.loss


def test_what_somebody_made_worse_comes_on_top():
    calm = way_to("Hexwater", 0.3, 46)
    worse = way_to("Hexwater", 0.3, 46, Worse(delay_ms=120, jitter_ms=5, loss=0.5))
    assert worse.delay_ms - calm.delay_ms == pytest.approx(120)
    assert worse.jitter_ms - calm.jitter_ms == pytest.approx(5) and worse.loss == pytest.approx(0.5, abs=0.001)
    assert way_to("Hexwater", 0.3, 46, Worse(loss=1.0)).loss == 1.0
