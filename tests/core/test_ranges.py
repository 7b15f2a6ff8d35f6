"""Ranges of addresses, and the time that going through them takes."""

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.ranges import Asking, longest, objection, understand


@pytest.mark.parametrize(
    ("text", "without", "addresses"),
    [
        ("10.0.0.0/30", "", ["10.0.0.1", "10.0.0.2"]),
        ("10.0.0.0/31", "", ["10.0.0.0", "10.0.0.1"]),
        ("10.0.0.9", "", ["10.0.0.9"]),
        ("10.0.0.8-10.0.0.10", "", ["10.0.0.8", "10.0.0.9", "10.0.0.10"]),
        ("10.0.0.8 - 9, 10.0.0.7", "", ["10.0.0.7", "10.0.0.8", "10.0.0.9"]),
        ("10.0.0.5 # the old one\n10.0.0.5-6", "", ["10.0.0.5", "10.0.0.6"]),
        ("10.0.0.1-5", "10.0.0.2, 10.0.0.4-9", ["10.0.0.1", "10.0.0.3"]),
        ("2001:db8::/126", "", ["2001:db8::", "2001:db8::1", "2001:db8::2", "2001:db8::3"]),
        ("::1 10.0.0.1", "", ["10.0.0.1", "::1"]),
    ],
)
def test_what_ranges_mean(text, without, addresses):
    found = understand(text, without)
    assert list(found) == addresses and len(found) == len(addresses)
    assert all(address in found for address in addresses)
    assert "10.0.0.200" not in found and "no address" not in found


@pytest.mark.parametrize(
    ("text", "without", "said"),
    [
        ("", "", "no range yet"),
        ("# nothing", "", "no range yet"),
        ("10.0.0.0/8", "", "16,777,214 addresses; a sweep goes through 262,144 at most"),
        ("2001:db8::/64", "", "at most"),
        ("::/0", "", "at most"),
        ("10.0.0.9-10.0.0.1", "", "ends before it begins"),
        ("10.0.0.1-::1", "", "ends before it begins"),
        ("10.0.0/24", "", "is not a range"),
        ("the depot", "", "is not a range"),
        ("10.0.0.1", "10.0.0.0/24", "everything is excluded"),
        ("10.0.0.1", "x", "is not a range"),
    ],
)
def test_wrong_ranges_are_refused(text, without, said):
    with pytest.raises(ValueError, match=said):
        understand(text, without)


SMALL = st.tuples(st.integers(0, 40), st.integers(0, 40)).map(sorted)


@given(st.lists(SMALL, min_size=1, max_size=5), st.lists(SMALL, max_size=5))
def test_each_address_once_and_none_that_is_excluded(wanted, without):
    def text(pairs):
        return "\n".join(f"10.0.0.{low}-{high}" for low, high in pairs)

    expected = {n for low, high in wanted for n in range(low, high + 1)}
    expected -= {n for low, high in without for n in range(low, high + 1)}
    if not expected:
        with pytest.raises(ValueError, match="everything is excluded"):
            understand(text(wanted), text(without))
        return
    found = [
        int(ipaddress.ip_address(each)) - int(ipaddress.ip_address("10.0.0.0"))
        for each in understand(text(wanted), text(without))
    ]
    assert found == sorted(expected)


def test_how_long_a_run_takes_at_most():
    asking = Asking(icmp=True, tcp_ports=1, credentials=2, per_second=100, timeout_s=1.0, tries=2)
    assert asking.packets == 8
    assert longest(1000, asking) == 80 + 2
    assert objection(1000, asking, 0) == objection(1000, asking, 82) == ""
    assert objection(1000, asking, 60).startswith(
        "A run can take 82 seconds, longer than the 60 seconds between two runs"
    )
