"""Lists of devices, as people paste them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lumtar.core.devicelist import MOST_LINES, Line, check_address, check_tags, decoded, read_list, written

KNOWN = {"credential": ["Branches", "Core"]}


def problems(text, **more):
    return {line.number: line.problem for line in read_list(text, known=KNOWN, **more).lines if line.problem}


def test_plain_addresses_one_a_line_or_separated():
    listed = read_list("127.0.0.1\n\n::1, sal-wan-1.oskelund.example # the branch\n127.0.0.2;127.0.0.3\n")
    assert listed.columns == [] and not listed.problem
    assert [(line.number, line.address) for line in listed.lines] == [
        (1, "127.0.0.1"),
        (3, "::1"),
        (3, "sal-wan-1.oskelund.example"),
        (4, "127.0.0.2"),
        (4, "127.0.0.3"),
    ]


@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
def test_a_table_with_whatever_delimiter(delimiter):
    header = ["Address", "Port", "Name", "Site", "Group", "Tags", "Credential", "Interval", "Rack"]
    quoted = '"owner=it; floor=2"' if delimiter == ";" else "owner=it; floor=2"
    groups = '"Branches; WAN"' if delimiter == ";" else "Branches; WAN"
    cells = ["127.0.0.1", "1161", "sal-wan-1", "Saltby", groups, quoted, "Branches", "30s", "R4"]
    listed = read_list("\n".join(delimiter.join(each) for each in (header, cells)), ["Rack"], KNOWN)
    assert not listed.problem
    assert listed.lines == [
        Line(2, "127.0.0.1", 1161, "sal-wan-1", "Saltby", ["Branches", "WAN"], {"owner": "it", "floor": "2"},
             "Branches", 30, "snmp", {"Rack": "R4"})
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("raw", "name"),
    [
        ("\ufeffaddress,name\n127.0.0.1,Bücherei".encode(), "Bücherei"),
        ("address,name\r\n127.0.0.1,Bücherei\r\n".encode("latin-1"), "Bücherei"),
        ("address,name\n127.0.0.1,Bücherei".encode("utf-16"), "Bücherei"),
        (b'address,name\n127.0.0.1,"Depot, rack 4"', "Depot, rack 4"),
    ],
)
def test_encodings_and_quotes(raw, name):
    listed = read_list(decoded(raw))
    assert [(line.address, line.name) for line in listed.lines] == [("127.0.0.1", name)]


def test_each_line_keeps_its_own_problem():
    text = """address,port,name,credential,interval,tags,way
127.0.0.1,161,good,Branches,60,,
127.0.0.300,161,,,,,
127.0.0.2,99999,,,,,
127.0.0.3,many,,,,,
127.0.0.4,,,Nobody's,,,
127.0.0.5,,,,5,,
127.0.0.6,,,,,colour,
,161,nameless,,,,
127.0.0.7,161,,,,,,one,too,many
127.0.0.1,161,again,,,,
127.0.0.8,,,,,,telepathy
127.0.0.0/24,,,,,,
two words,,,,,,
"""
    found = problems(text)
    assert set(found) == set(range(3, 15))
    for number, words in {
        3: "not an IPv4 address",
        4: "between 1 and 65535",
        5: "not 'many'",
        6: "no credential called",
        7: "between 10 seconds and a day",
        8: "key=value",
        9: "no address",
        10: "It has 10 columns, the header has 7.",
        11: "stand in line 2 already",
        12: "snmp, icmp or tcp",
        13: "a range",
        14: "without blanks",
    }.items():
        assert words in found[number], (number, found[number])


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "nothing in it"),
        ("address,colour\n127.0.0.1,red", "no column 'colour'"),
        ("name,site\nx,y", "no column called address"),
        ("address,name,name\n127.0.0.1,a,b", "stands there twice"),
        ("127.0.0.1\n" * (MOST_LINES + 2), "at most 5,000"),
    ],
)
def test_what_is_wrong_with_the_whole(text, words):
    assert words in read_list(text).problem


@given(st.text(max_size=300))
def test_junk_never_breaks_it(text):
    listed = read_list(text)
    assert listed.problem or all(line.problem or line.address for line in listed.lines)


word = st.text(st.characters(blacklist_categories=("Cc", "Cf", "Cs", "Zl", "Zp", "Zs")), min_size=1, max_size=20)
part = word.filter(lambda text: not set(text) & set(";=#"))
lines = st.builds(
    Line,
    number=st.just(0),
    address=st.ip_addresses().map(str),
    port=st.integers(1, 65535),
    name=part,
    site=part,
    groups=st.lists(part, max_size=3),
    tags=st.dictionaries(part, part, max_size=3),
    credential=st.sampled_from(["", "Branches", "Core"]),
    interval=st.integers(10, 86400),
    own=st.dictionaries(st.just("Rack"), part, max_size=1),
)


@given(st.lists(lines, max_size=6, unique_by=lambda line: (line.address, line.port)))
def test_what_is_exported_comes_back(wanted):
    listed = read_list("".join(written(wanted, ["Rack"])), ["Rack"], KNOWN)
    assert not listed.problem
    for number, line in enumerate(wanted, 2):
        line.number = number
        line.address = check_address(line.address)
    assert listed.lines == wanted


@pytest.mark.parametrize(
    ("text", "address"),
    [(" 127.0.0.1 ", "127.0.0.1"), ("[::1]", "::1"), ("0:0:0::1", "::1"), ("fe80::1%eth0", "fe80::1%eth0")],
)
def test_addresses_are_brought_into_one_form(text, address):
    assert check_address(text) == address


@pytest.mark.parametrize("text", ["", " ", "1.2.3", "1.2.3.4.5", ":::", "a b", "-a", "a..b", "x" * 300, "a/b", "é\0"])
def test_what_is_no_address(text):
    with pytest.raises(ValueError):
        check_address(text)


def test_tags():
    assert check_tags("a=1; b = two words;") == {"a": "1", "b": "two words"}
    with pytest.raises(ValueError, match="key=value"):
        check_tags("a=1;b")
