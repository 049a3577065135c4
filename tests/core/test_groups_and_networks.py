"""Nested groups and overlapping networks, against the plainest way to find them."""

from __future__ import annotations

from ipaddress import IPv4Address, ip_network

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from usher_gate.core.organisation.columns import Ragged
from usher_gate.core.organisation.groups import close_groups
from usher_gate.core.organisation.networks import Networks, span_of

SIZE, PEOPLE = 7, 5
PAIRS = st.lists(st.tuples(st.integers(0, SIZE - 1), st.integers(0, SIZE - 1)), max_size=14)
MEMBERS = st.lists(st.tuples(st.integers(0, SIZE - 1), st.integers(0, PEOPLE - 1)), max_size=10)


def column(pairs: list[tuple[int, int]]) -> tuple[np.ndarray, np.ndarray]:
    return np.array([first for first, _ in pairs], np.int32), np.array([second for _, second in pairs], np.int32)


@given(PAIRS, MEMBERS, st.lists(st.booleans(), min_size=PEOPLE, max_size=PEOPLE))
def test_members_through_nested_groups_are_those_that_a_walk_finds(
    nested: list[tuple[int, int]], direct: list[tuple[int, int]], mask: list[bool]
) -> None:
    groups = close_groups([f"g{n}" for n in range(SIZE)], [None] * SIZE, column(direct), column(nested), PEOPLE)

    def walk(group: int) -> set[int]:
        seen, waiting = {group}, [group]
        while waiting:
            here = waiting.pop()
            for outer, inner in nested:
                if outer == here and inner not in seen:
                    seen.add(inner)
                    waiting.append(inner)
        return {person for outer, person in direct if outer in seen}

    members = [walk(group) for group in range(SIZE)]
    chosen = [person for person in range(PEOPLE) if mask[person]]
    assert [groups.members(group).tolist() for group in range(SIZE)] == [sorted(each) for each in members]
    assert [groups.of(person).tolist() for person in range(PEOPLE)] == [
        [g for g in range(SIZE) if person in members[g]] for person in range(PEOPLE)
    ]
    counted = [len(each & set(chosen)) for each in members]
    assert groups.count(np.array(mask)).tolist() == counted
    assert groups.count_of(np.array(chosen, np.int64)).tolist() == counted
    assert [set(groups.direct.of(g).tolist()) for g in range(SIZE)] == [
        {person for outer, person in direct if outer == g} for g in range(SIZE)
    ]


@given(
    st.lists(st.frozensets(st.integers(0, 90), max_size=9) | st.just(frozenset(range(7, 88))), min_size=1, max_size=6),
    st.lists(st.integers(0, 5), max_size=6),
    st.integers(0, 90),
    st.integers(0, 40),
)
def test_runs_of_many_owners_are_those_of_each(
    sets: list[frozenset[int]], asked: list[int], first: int, count: int
) -> None:
    runs = [sorted(each) for each in sets]
    ends = np.cumsum([0, *map(len, runs)])
    every = Ragged(ends, np.array([item for run in runs for item in run], np.int32))
    owners = np.array([owner % len(runs) for owner in asked], np.int32)
    gathered = every.gather(owners)
    assert gathered.dtype == np.int32
    assert gathered.tolist() == [item for owner in owners.tolist() for item in runs[owner]]
    some = every.items_between(first, first + count)
    assert [some.of(owner).tolist() for owner in range(len(runs))] == [
        [item - first for item in run if first <= item < first + count] for run in runs
    ]


RANGES = st.builds(
    lambda first, bits: str(ip_network((first << 2, bits), strict=False)),
    st.integers(0, 2**30 - 1) | st.integers(0, 40),
    st.integers(0, 32),
)


@given(
    st.dictionaries(st.sampled_from("abcde"), st.lists(RANGES, min_size=1, max_size=4)),
    st.lists(st.integers(0, 2**32 - 1) | st.integers(0, 170), max_size=20),
)
def test_the_networks_of_an_address_are_those_that_hold_it(ranges: dict[str, list[str]], addresses: list[int]) -> None:
    networks = Networks({name: [span_of(text) for text in texts] for name, texts in ranges.items()})
    edges = {
        int(edge) + step
        for texts in ranges.values()
        for text in texts
        for edge in (ip_network(text)[0], ip_network(text)[-1])
        for step in (-1, 0, 1)
    }
    seen = set()
    for number in [*addresses, *(edge for edge in edges if 0 <= edge < 2**32)]:
        address = IPv4Address(number)
        expected = frozenset(
            name for name, texts in ranges.items() if any(address in ip_network(text) for text in texts)
        )
        assert networks.at(str(address)) == networks.containing(str(address)) == expected
        seen.add(expected)
    classes = {each.names for each in networks.classes}
    assert seen <= classes
    assert all(networks.containing(each.address) == each.names for each in networks.classes)
    for name, texts in ranges.items():
        around = networks.around(name)
        assert around == {other for other in ranges if all(other in each for each in classes if name in each)}, texts
