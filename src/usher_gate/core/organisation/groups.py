"""Groups of people and of other groups, nested membership included; loops are legal.

Groups that contain one another (a loop) have the same members, so membership is kept by *cycles*: a group for itself,
or all groups of a loop.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ..words.record import record
from .columns import Bools, Ints, Longs, Ragged, ragged
from .membership import ClosedMemberships, WalkedMemberships, membership


@record
class Groups:
    """Groups, sorted by id. `direct` holds the active people who are members themselves, `inside` the groups that are.

    `cycle` numbers each group's cycle (int32); `_membership` says who belongs to each cycle, nested ones included,
    `_groups` holds the groups
    of each cycle. `owners` are as written, None where there is no such column
    or no groups table.
    """

    ids: tuple[str, ...]
    names: tuple[str | None, ...]
    owners: tuple[str | None, ...] | None
    direct: Ragged
    inside: Ragged
    cycle: Ints
    _membership: ClosedMemberships | WalkedMemberships
    _groups: Ragged

    def members(self, group: int) -> Ints:
        """Return the active members of a group, nested ones included, ascending."""
        return self._membership.members(int(self.cycle[group]))

    def members_of(self, groups: Ints) -> tuple[Ints, Longs]:
        """Return the active members of many groups, one group after another, and how many each has."""
        return self._membership.members_of(self.cycle[groups])

    def of(self, person: int) -> Ints:
        """Return the groups that a person belongs to, through nested ones too, ascending."""
        return self.of_many(np.array([person]))[1]

    def of_many(self, people: Longs) -> tuple[Longs, Ints]:
        """Return the groups of many people: pairs of a place in `people` and a group, by both ascending."""
        whose, cycles = self._membership.of(people)
        groups = self._groups.gather(cycles)
        whose = np.repeat(whose, np.diff(self._groups.starts)[cycles])
        order = np.lexsort((groups, whose))
        return whose[order].astype(np.int64), groups[order]

    def count(self, mask: Bools) -> Longs:
        """Return for each group, how many of its members the mask holds."""
        counted: Longs = self._membership.count(mask)[self.cycle]
        return counted

    def count_of(self, people: Longs) -> Longs:
        """Return for each group, how many of these people are its members; for few people much faster than `count`."""
        counted: Longs = np.bincount(self._membership.of(people)[1], minlength=len(self._groups.starts) - 1)[self.cycle]
        return counted

    def part(self, first: int, last: int) -> Groups:
        """Return the same groups with the people from `first` to before `last` alone, numbered from 0."""
        return replace(
            self,
            direct=self.direct.items_between(first, last),
            _membership=self._membership.between(first, last),
        )

    def chain(self, person: int, group: int) -> list[int]:
        """Return the shortest chain of groups by which a person belongs to a group, each inside the next.

        It begins with a group that the person is in directly, and ends with the group itself; it is empty for someone
        who is not in it.
        """
        above: dict[int, int] = {}  # by group the one that it lies in, on the way up
        waiting, seen = [group], {group}
        for here in waiting:
            if person in self.direct.of(here):
                found = [here]
                while found[-1] != group:
                    found.append(above[found[-1]])
                return found
            for inner in self.inside.of(here).tolist():
                if inner not in seen:
                    seen.add(inner)
                    above[inner] = here
                    waiting.append(inner)
        return []

    @property
    def nested(self) -> tuple[Longs, Ints]:
        """Return pairs of a group and a group inside it."""
        return np.repeat(np.arange(len(self.ids)), np.diff(self.inside.starts)), self.inside.items


def close_groups(
    ids: Sequence[str],
    names: Sequence[str | None],
    people: tuple[Ints | Longs, Ints],
    nested: tuple[Ints | Longs, Ints],
    person_count: int,
    owners: tuple[str | None, ...] | None = None,
) -> Groups:
    """Groups with membership through nested groups.

    `people` is (group, person) pairs, `nested` (containing group, contained group) pairs, each int arrays of one
    length.
    """
    inside = ragged(nested[0], nested[1], len(ids), len(ids))
    cycle, count = _knots(inside)
    outer, inner = cycle[nested[0]], cycle[nested[1]]
    between = np.flatnonzero(outer != inner)
    around = ragged(inner[between], outer[between].astype(np.int32), count, count)
    within = ragged(outer[between], inner[between].astype(np.int32), count, count)
    groups, persons = people
    return Groups(
        ids=tuple(ids),
        names=tuple(names),
        owners=owners,
        direct=ragged(groups, persons, len(ids), person_count),
        inside=inside,
        cycle=cycle,
        _membership=membership(within, around, cycle[groups], persons.astype(np.int32), person_count),
        _groups=ragged(cycle, np.arange(len(ids), dtype=np.int32), count, len(ids)),
    )


def _knots(inside: Ragged) -> tuple[Ints, int]:
    """Return for each group the number of its cycle, and how many there are.

    A cycle's number is greater than those of all cycles inside it.

    Strongly connected components by Tarjan's walk, without recursion.
    """
    size = len(inside.starts) - 1
    starts, items = inside.starts.tolist(), inside.items.tolist()
    index, low, cycle = [-1] * size, [0] * size, [-1] * size
    stack: list[int] = []
    found = seen = 0
    for first in range(size):
        if index[first] >= 0:
            continue
        walk = [(first, starts[first])]
        index[first] = low[first] = seen
        seen += 1
        stack.append(first)
        while walk:
            group, place = walk.pop()
            if place < starts[group + 1]:
                walk.append((group, place + 1))
                below = items[place]
                if index[below] < 0:
                    index[below] = low[below] = seen
                    seen += 1
                    stack.append(below)
                    walk.append((below, starts[below]))
                elif cycle[below] < 0:
                    low[group] = min(low[group], index[below])
                continue
            if walk:
                low[walk[-1][0]] = min(low[walk[-1][0]], low[group])
            if low[group] == index[group]:
                while True:
                    member = stack.pop()
                    cycle[member] = found
                    if member == group:
                        break
                found += 1
    return np.array(cycle, np.int32), found
