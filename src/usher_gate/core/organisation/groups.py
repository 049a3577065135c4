"""Groups of people and of other groups, nested membership included."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..words.record import record
from .columns import Bools, Ints, Longs, Ragged, ragged


@record
class Groups:
    """Groups, sorted by id; `people` holds each group's active members, nested ones included; `above` each group's
    containing groups, itself included. `direct` holds the active people who are members themselves, `inside` the groups that are.
    `owners` are as written, None where there is no such column or no groups table."""

    ids: tuple[str, ...]
    names: tuple[str | None, ...]
    people: Ragged
    of_person: Ragged
    above: Ragged
    direct: Ragged
    inside: Ragged
    owners: tuple[str | None, ...] | None = None

    def count(self, mask: Bools) -> Longs:
        """For each group, how many of its members the mask holds."""
        return self.people.count(mask)

    def count_of(self, people: Longs) -> Longs:
        """For each group, how many of these people are its members; for few people much faster than `count`."""
        return np.bincount(self.of_person.gather(people), minlength=len(self.ids))


def close_groups(
    ids: Sequence[str],
    names: Sequence[str | None],
    people: tuple[Ints, Ints],
    nested: tuple[Ints, Ints],
    person_count: int,
    owners: tuple[str | None, ...] | None = None,
) -> Groups:
    """Groups with membership through nested groups; loops are legal.

    `people` is (group, person) pairs, `nested` (containing group, contained group) pairs.
    """
    containers: dict[int, list[int]] = {}
    for container, contained in zip(nested[0].tolist(), nested[1].tolist(), strict=True):
        containers.setdefault(contained, []).append(container)
    inner: list[int] = []
    outer: list[int] = []
    for group in range(len(ids)):
        seen = {group}
        waiting = list(containers.get(group, ()))
        while waiting:
            group_above = waiting.pop()
            if group_above not in seen:
                seen.add(group_above)
                waiting.extend(containers.get(group_above, ()))
        inner.extend([group] * len(seen))
        outer.extend(seen)
    above = ragged(np.array(inner, np.int64), np.array(outer, np.int32), len(ids), len(ids))
    groups, persons = people
    wide, deep = above.gather(groups), np.repeat(persons, np.diff(above.starts)[groups])
    return Groups(
        tuple(ids),
        tuple(names),
        ragged(wide, deep.astype(np.int32), len(ids), person_count),
        ragged(deep, wide, person_count, len(ids)),
        above,
        ragged(groups, persons, len(ids), person_count),
        ragged(nested[0], nested[1], len(ids), len(ids)),
        owners,
    )
