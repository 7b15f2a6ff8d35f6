"""Where a credential may be sent."""

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core import reach


@pytest.mark.parametrize(
    ("address", "may"),
    [
        ("10.1.2.3", True),
        ("172.31.0.1", True),
        ("172.32.0.1", False),
        ("203.0.113.9", False),
        ("::1", True),
        ("2001:db8::1", False),
        ("fe80::1%eth0", True),
        ("::ffff:203.0.113.9", False),
        ("::ffff:10.0.0.1", True),
        ("a name", False),
    ],
)
def test_unless_somebody_says_otherwise_it_stays_in_the_network(address, may):
    assert reach.may_be_sent(reach.PRIVATE, address) is may


def test_without_ranges_it_is_sent_nowhere():
    assert not reach.may_be_sent("", "10.0.0.1")
    assert "no address at all" in reach.refusal("Core", "", "10.0.0.1")


def test_ranges_are_kept_in_one_form():
    assert reach.check_ranges("10.1.2.3/8\n192.0.2.1 ,2001:DB8::/32") == "10.0.0.0/8, 192.0.2.1/32, 2001:db8::/32"


NETWORKS = st.lists(st.tuples(st.integers(0, 255), st.integers(24, 32)), max_size=6)


@given(held=NETWORKS, first=st.integers(0, 700), size=st.integers(1, 400))
def test_what_lies_beyond_is_counted_once(held, first, size):
    base = int(ipaddress.IPv4Address("10.0.0.0"))
    ranges = ", ".join(f"{ipaddress.IPv4Address(base + 3 * number)}/{length}" for number, length in held)
    addresses = [str(ipaddress.IPv4Address(base + first + n)) for n in range(size)]
    expected = sum(not reach.may_be_sent(ranges, address) for address in addresses)
    assert reach.beyond(ranges, [(4, base + first, base + first + size - 1)]) == expected
