"""What is said of ports that came, went, moved or were renamed, without a database."""

import pytest

from lumtar.core.port_changes import MOST_APART, News, compare_ports


def port(index, label=None, gone_at=None, **more):
    return {"if_index": index, "label": label or f"p{index}", "gone_at": gone_at, **more}


def test_what_is_the_same_is_no_change():
    changes = compare_ports({7: port(1)}, [port(1)], {0: 7})
    assert (changes.new, changes.changed, changes.gone, changes.news) == ([], [], [], [])


def test_a_changed_value_is_stored_and_is_no_news():
    changes = compare_ports({7: port(1, mac="a")}, [port(1, mac="b")], {0: 7})
    assert changes.changed == [0] and changes.news == []


def test_renamed_new_moved_back_and_gone():
    stored = {1: port(1), 2: port(2), 3: port(3, gone_at="then"), 4: port(4)}
    listed = [port(1, "other"), port(12, "p2"), port(3), port(9), port(10)]
    changes = compare_ports(stored, listed, {0: 1, 1: 2, 2: 3})
    assert (changes.new, changes.changed, changes.gone) == ([3, 4], [0, 1, 2], [4])
    assert changes.news == [
        News(1, "port p1 is now called other"),
        News(None, "2 new ports"),
        News(2, "port p2 has ifIndex 12 now, was 2"),
        News(3, "port p3 is listed again"),
        News(4, "port p4 is gone"),
    ]


def test_the_first_list_of_a_device_is_no_news():
    assert compare_ports({}, [port(1), port(2)], {}).news == []


@pytest.mark.parametrize(("count", "lines"), [(MOST_APART, MOST_APART), (MOST_APART + 1, 1)])
def test_many_that_moved_are_one_line(count, lines):
    stored = {key: port(key, "same") for key in range(count)}
    changes = compare_ports(
        stored, [port(100 + key, "same") for key in range(count)], {key: key for key in range(count)}
    )
    assert len(changes.news) == lines and len(changes.changed) == count


def test_a_profile_that_reads_no_ports_says_so_once():
    stored = {key: port(key) for key in range(3)}
    changes = compare_ports(stored, [], {}, is_read=False)
    assert changes.gone == [0, 1, 2]
    assert [each.text for each in changes.news] == [
        "its profile does not read ports: 3 are not listed any more, their history is kept"
    ]
