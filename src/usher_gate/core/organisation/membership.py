"""Who belongs to which strongly connected component of nested groups, through whatever lies in it.

`ClosedMemberships` holds every membership: quick, and as large as there are memberships. `WalkedMemberships` holds the
direct ones and walks the graph for each question: for chains of groups so long that all memberships together would not
fit in memory. Both give the same answers.
"""

from __future__ import annotations

import numpy as np

from ..words.record import record
from .columns import Bools, Ints, Longs, Ragged, ragged, sorted_unique

_FEW = 4_000_000  # memberships that are always held
_TIMES_DIRECT = 64  # or so many for each direct one
_STEPS = 500_000  # of walking, before a walk for each question is the lesser cost: half a second
_BLOCK = 4096  # people whose memberships are followed at once when they are counted


@record
class ClosedMemberships:
    """Every membership: `people` of each component, nested ones included, and the components `of` each person."""

    people: Ragged
    components_of: Ragged

    def members(self, component: int) -> Ints:
        """Return the members of a component, ascending."""
        return self.people.of(component)

    def members_of(self, components: Ints) -> tuple[Ints, Longs]:
        """Return the members of many components, one after another, and how many each has."""
        return self.people.gather(components), np.diff(self.people.starts)[components]

    def of(self, people: Longs) -> tuple[Longs, Ints]:
        """Return pairs of a place in `people` and a component that this person belongs to."""
        counts = np.diff(self.components_of.starts)[people]
        return np.repeat(np.arange(len(people)), counts), self.components_of.gather(people)

    def count(self, mask: Bools) -> Longs:
        """Return for each component, how many of its members the mask holds."""
        return self.people.count(mask)

    def between(self, first: int, last: int) -> ClosedMemberships:
        """Return the same with the people from `first` to before `last` alone, numbered from 0."""
        return ClosedMemberships(self.people.items_between(first, last), self.components_of.owners_between(first, last))


@record
class WalkedMemberships:
    """The direct memberships, and the graph: which components lie `inside` each (smaller numbers), and which are
    `around` it (greater)."""

    people: Ragged
    components_of: Ragged
    inside: Ragged
    around: Ragged

    def members(self, component: int) -> Ints:
        """See Closed."""
        found = self.people.gather(_reached(self.inside, [component]))
        return sorted_unique(found.astype(np.int64)).astype(np.int32)

    def members_of(self, components: Ints) -> tuple[Ints, Longs]:
        """See Closed."""
        every = [self.members(component) for component in components.tolist()]
        joined = np.concatenate(every) if every else np.empty(0, np.int32)
        return joined, np.array([len(members) for members in every], np.int64)

    def of(self, people: Longs) -> tuple[Longs, Ints]:
        """See Closed."""
        every = [_reached(self.around, self.components_of.of(person).tolist()) for person in people.tolist()]
        whose = np.repeat(np.arange(len(every)), [len(components) for components in every])
        return whose, np.concatenate(every) if every else np.empty(0, np.int32)

    def count(self, mask: Bools) -> Longs:
        """See Closed. People are bits: those of a component are its own and those of all inside it, which come before
        it."""
        # Which component each listed person belongs to.
        total = np.zeros(len(self.people.starts) - 1, np.int64)
        chosen = np.flatnonzero(mask)
        owners = np.repeat(np.arange(len(total)), np.diff(self.people.starts))
        for start in range(0, len(chosen), _BLOCK):
            # Number the people of this block; everyone else is -1.
            block = chosen[start : start + _BLOCK]
            place = np.full(len(mask), -1, np.int64)
            place[block] = np.arange(len(block))
            mine = place[self.people.items]
            rows, columns = owners[mine >= 0], mine[mine >= 0]
            # One bit for each person of the block that a component holds itself.
            bits = np.zeros((len(total), (len(block) + 7) // 8), np.uint8)
            np.bitwise_or.at(bits, (rows, columns // 8), (1 << (columns % 8)).astype(np.uint8))
            # Add the bits of the components inside, which come before it and are complete.
            for component in range(len(total)):
                for inner in self.inside.of(component).tolist():
                    bits[component] |= bits[inner]
            total += _BITS[bits].sum(axis=1, dtype=np.int64)
        return total

    def between(self, first: int, last: int) -> WalkedMemberships:
        """See Closed."""
        people = self.people.items_between(first, last)
        return WalkedMemberships(people, self.components_of.owners_between(first, last), self.inside, self.around)


_BITS = np.array([bin(byte).count("1") for byte in range(256)], np.uint8)


def membership(
    inside: Ragged, around: Ragged, components: Ints, persons: Ints, person_count: int
) -> ClosedMemberships | WalkedMemberships:
    """Return the memberships that follow from pairs of a component and a person who belongs to it directly.

    Components are numbered so that those `around` one have greater numbers.
    """
    count = len(inside.starts) - 1
    most = max(_FEW, _TIMES_DIRECT * len(persons))
    above = _above(around, most)
    pairs = None
    if above is None:  # too long for all, perhaps not for those that have people
        above = _above_some(around, sorted_unique(components.astype(np.int64)), _STEPS)
    if above is not None:
        lengths = np.diff(above.starts)[components]
        if int(lengths.sum()) <= most:
            pairs = above.gather(components), np.repeat(persons, lengths).astype(np.int32)
    if pairs is None:
        direct = ragged(components, persons, count, person_count)
        return WalkedMemberships(direct, ragged(persons, components, person_count, count), inside, around)
    wide, deep = pairs
    return ClosedMemberships(ragged(wide, deep, count, person_count), ragged(deep, wide, person_count, count))


def _above(around: Ragged, most: int) -> Ragged | None:
    """Return for each component all that contain it, itself included.

    None where that would be more than `most` in all.
    """
    count = len(around.starts) - 1
    found: list[Ints] = [np.empty(0, np.int32)] * count
    total = 0
    for component in range(count - 1, -1, -1):
        outer = around.of(component).tolist()
        own = np.array([component], np.int32)
        if len(outer) == 1:
            found[component] = np.concatenate((own, found[outer[0]]))  # its own number is the least
        elif outer:
            every = np.concatenate([found[one] for one in outer]).astype(np.int64)
            found[component] = np.concatenate((own, sorted_unique(every).astype(np.int32)))
        else:
            found[component] = own
        total += len(found[component])
        if total > most:
            return None
    return _runs(found)


def _above_some(around: Ragged, components: Longs, most: int) -> Ragged | None:
    """Return the same of some components alone; empty for the others."""
    found: list[Ints] = [np.empty(0, np.int32)] * (len(around.starts) - 1)
    total = 0
    for component in components.tolist():
        found[component] = _reached(around, [component])
        total += len(found[component])
        if total > most:
            return None
    return _runs(found)


def _runs(found: list[Ints]) -> Ragged:
    starts = np.concatenate(([0], np.cumsum([len(one) for one in found], dtype=np.int64)))
    return Ragged(starts.astype(np.int64), np.concatenate(found) if found else np.empty(0, np.int32))


def _reached(graph: Ragged, first: list[int]) -> Ints:
    """Return everything that a walk from some components comes to, those included, ascending."""
    seen, waiting = set(first), list(first)
    while waiting:
        for one in graph.of(waiting.pop()).tolist():
            if one not in seen:
                seen.add(one)
                waiting.append(one)
    return np.array(sorted(seen), np.int32)
