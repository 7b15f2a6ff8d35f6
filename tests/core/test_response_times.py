"""Response times: what fields come to, and sums that lose nothing."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.flows.declared import Part
from lumtar.core.flows.response_times import SUMS, TIMES, Seen, added, largest, responses_of, times_of
from tests.core.test_flow_totals import START, records


def told(network, server, responses=None):
    made = np.zeros(len(network), TIMES)
    made["network"], made["server"] = network, server
    made["responses"] = 1 if responses is None else responses
    return made


def seen(n, ports=443, applications=1, interfaces=(3, 7), sites=(4, 5)):
    def column(value):
        return np.full(n, value, "u4")

    return Seen(
        np.full(n, ports, "u2"), column(applications), tuple(map(column, interfaces)), tuple(map(column, sites))
    )


def test_a_field_of_the_whole_network_goes_before_its_two_sides():
    sides = {Part.CLIENT_SIDE: np.array([2.0, 2.0, 0.0]), Part.SERVER_SIDE: np.array([30.0, 30.0, 0.0])}
    found = times_of({**sides, Part.NETWORK: np.array([40.0, 0.0, 0.0])}, 3)
    np.testing.assert_array_equal(found["network"], [40.0, 32.0, np.nan])


def test_zero_is_a_time_only_where_answers_are_counted():
    values = {Part.SERVER: np.array([0.0, 0.0, 600.0]), Part.RESPONSES: np.array([2, 0, 3])}
    np.testing.assert_array_equal(times_of(values, 3)["server"], [0.0, np.nan, 200.0])


def test_what_lasts_for_longer_than_an_hour_is_no_response_time():
    assert np.isnan(times_of({Part.NETWORK: np.array([2.0**32])}, 1)["network"]).all()


def test_the_server_is_at_the_end_of_the_service_whichever_way_a_record_goes():
    rows = records(
        {"src": "10.0.0.1", "dst": "10.0.0.9", "src_port": 50000, "dst_port": 443, "protocol": 6, "end": 60.0},
        {"src": "10.0.0.9", "dst": "10.0.0.1", "src_port": 443, "dst_port": 50000, "protocol": 6, "end": 61.0},
        {"src": "10.0.0.9", "dst": "10.0.0.1", "src_port": 443, "dst_port": 50000, "protocol": 6, "end": 61.0},
    )
    found = responses_of(rows, told([20.0, 30.0, np.nan], [5.0, np.nan, np.nan]), 11, seen(3))
    assert len(found) == 2, "one tells of no time"
    assert (found["server_lo"] & np.uint64(0xFF)).tolist() == [9, 9]
    assert (found["minute"] - START // 60).tolist() == [0, 1], "a flow that ends with a minute is of that one"
    assert found["client_site"].tolist() == [4, 5] and found["server_site"].tolist() == [5, 4]
    assert found["input"].tolist() == [3, 7] and found["output"].tolist() == [7, 3]
    assert found["network_us"].tolist() == [20, 30] and found["server_number"].tolist() == [1, 0]


@given(
    st.lists(st.tuples(st.sampled_from([1, 2, 3]), st.integers(0, 10**6), st.integers(1, 50)), min_size=1, max_size=40),
    st.integers(1, 3),
)
def test_nothing_is_lost_when_rows_are_added_up_and_put_together(rows, most):
    made = records(
        *(
            {
                "src": "10.0.0.99",
                "dst": f"10.0.0.{host}",
                "src_port": 50000,
                "dst_port": 443,
                "protocol": 6,
                "end": 30.0,
            }
            for host, _, _ in rows
        )
    )
    times = told([each for _, each, _ in rows], [each / 2 for _, each, _ in rows], [number for _, _, number in rows])
    parts = responses_of(made, times, 11, seen(len(rows)))
    whole = added([parts[:7], parts[7:]])
    kept = largest(whole, most)
    assert len(whole) == len({host for host, _, _ in rows}) and len(kept) <= most + 1
    for name in SUMS:
        join = np.max if name.endswith("longest_us") else np.sum
        assert join(kept[name]) == join(whole[name]) == join(parts[name])
    assert int(whole["network_us"].sum()) == sum(each * number for _, each, number in rows)
    assert not kept["server_lo"][kept["is_rest"] == 1].any()
