"""What explains what, over networks whose truth is known."""

import random

from hypothesis import given, settings
from hypothesis import strategies as st

from lumtar.core.topology import End
from lumtar.core.topology.failures import Why, device, dominators, explain, port


def link(a, b):
    """Devices a and b joined at ports that are numbered by both."""
    return End(a, 100 * a + b), End(b, 100 * b + a)


# core 1, distribution 2 and 3, access 4 on both, leaf 5 on access, 6 on 2 alone
TREE = [link(1, 2), link(1, 3), link(2, 4), link(3, 4), link(4, 5), link(2, 6)]


def said(found):
    return {
        (failure.kind, failure.number): (each.cause.kind, each.cause.number, each.why)
        for failure, each in found.items()
    }


def test_behind_one_device_that_failed_everything_follows_from_it():
    found = explain({2: 1.0, 6: 2.0}, {}, TREE)
    assert said(found) == {("device", 6): ("device", 2, Why.BEHIND)}


def test_one_way_that_is_left_is_enough_to_be_a_failure_of_its_own():
    assert explain({2: 1.0, 4: 2.0}, {}, TREE) == {}


def test_what_hangs_on_two_that_failed_follows_from_the_first_of_them():
    found = said(explain({3: 1.0, 2: 2.0, 4: 3.0, 5: 4.0}, {}, TREE))
    assert found == {
        ("device", 4): ("device", 3, Why.BEHIND_SEVERAL),
        ("device", 5): ("device", 3, Why.BEHIND),
    }


def test_a_link_that_is_down_explains_what_hangs_on_it_alone_and_its_other_end():
    found = said(explain({5: 2.0}, {405: 1.0}, TREE))
    assert found == {("device", 5): ("port", 405, Why.LINK_DOWN)}
    found = said(explain({}, {203: 5.0, 102: 1.0, 201: 1.5}, TREE))
    assert found == {("port", 201): ("port", 102, Why.OTHER_END)}


def test_ports_that_lead_to_a_device_whose_links_are_all_down_follow_from_it():
    found = said(explain({4: 3.0, 5: 4.0}, {204: 1.0, 304: 1.0}, TREE))
    assert found == {
        ("port", 204): ("device", 4, Why.LEADS_THERE),
        ("port", 304): ("device", 4, Why.LEADS_THERE),
        ("device", 5): ("device", 4, Why.BEHIND),
    }


def test_a_link_that_is_down_is_no_way():
    """The second way to 4 has been down for long: now 2 fails, and 4 is cut off by that."""
    found = said(explain({2: 9.0, 4: 9.5, 5: 9.7, 6: 9.9}, {304: 1.0}, TREE))
    assert {subject[1] for subject, (_, cause, _) in found.items() if cause == 2} == {4, 5, 6}


def test_a_network_that_is_not_ours_is_a_way_and_never_a_failure():
    transport = -7
    branches = [(End(branch, 100 * branch), End(transport, None)) for branch in (1, 2, 3)]
    found = explain({2: 1.0, 20: 2.0}, {}, [*branches, link(2, 20)])
    assert said(found) == {("device", 20): ("device", 2, Why.BEHIND)}


def test_when_nothing_answers_nothing_is_explained():
    assert explain(dict.fromkeys(range(1, 7), 1.0), {}, TREE) == {}


graphs = st.lists(st.tuples(st.integers(1, 9), st.integers(1, 9)), max_size=24)


@given(graphs, st.sets(st.integers(1, 9)), st.sets(st.integers(0, 23), max_size=6))
def test_a_cause_follows_from_nothing_and_has_failed_itself(edges, silent, cut):
    links = [link(a, b) for a, b in edges]
    down = {
        end.port: 1.0 for place in cut if place < len(links) for end in links[place][:1] if end.device not in silent
    }
    found = explain(dict.fromkeys(silent, 1.0), down, links)
    failures = {device(each) for each in silent} | {port(each) for each in down}
    assert set(found) <= failures
    assert all(each.cause in failures and each.cause not in found for each in found.values())


@given(graphs, st.sets(st.integers(1, 9), max_size=4))
def test_the_dominator_is_what_cuts_off(edges, entries):
    """Against the plain meaning: without it the device is not reached."""
    joined = {}
    for a, b in edges:
        joined.setdefault(a, []).append((b, None, None))
        joined.setdefault(b, []).append((a, None, None))

    def reached(without):
        found = {each for each in entries if each != without}
        waiting = list(found)
        while waiting:
            more = {each for each, _, _ in joined.get(waiting.pop(), ())} - found - {without}
            found |= more
            waiting += more
        return found

    above = dominators(sorted(entries), joined, range(1, 10))
    everything = reached(None)
    assert set(above) == everything
    for each, upper in above.items():
        cutting = {other for other in everything if other != each and each not in reached(other)}
        assert (upper in cutting) if cutting else upper is None
        if upper is not None:
            assert not any(upper not in reached(other) for other in cutting - {upper}), "the outermost one"


def network(dice, devices):
    """A tree with second uplinks here and there."""
    links = [link(number, dice.randrange(1, number)) for number in range(2, devices + 1)]
    for number in range(4, devices + 1):
        if dice.random() < 0.3:
            other = dice.randrange(1, number)
            if {number, other} not in [{a.device, b.device} for a, b in links]:
                links.append(link(number, other))
    return links


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000))
def test_whatever_one_device_takes_down_is_explained_by_it(seed):
    """The collector stands at device 1; one device fails, and its neighbours' ports go down."""
    dice = random.Random(seed)
    links = network(dice, dice.randint(8, 60))
    failed = dice.randrange(2, max(end.device for pair in links for end in pair) + 1)
    joined = {}
    for a, b in links:
        joined.setdefault(a.device, set()).add(b.device)
        joined.setdefault(b.device, set()).add(a.device)
    answering, waiting = {1}, [1]
    while waiting:
        more = joined[waiting.pop()] - answering - {failed}
        answering |= more
        waiting += more
    silent = {each: 5.0 + dice.random() for each in joined if each not in answering}
    down = {
        end.port: 1.0 + dice.random()
        for pair in links
        for end, other in (pair, pair[::-1])
        if other.device == failed and end.device in answering
    }
    found = explain(silent, down, links)
    own = device(failed)
    # Of a device with one link nobody can tell whether it or the link failed: the link that is down explains it then.
    cause = found[own].cause if own in found else own
    assert cause == own or (cause.kind == "port" and len(down) == 1)
    for failure in ({device(each) for each in silent} | {port(each) for each in down}) - {cause}:
        assert found[failure].cause == cause, failure
