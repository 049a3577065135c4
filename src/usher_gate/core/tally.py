"""Adding up drifting verdicts by root, by group and unit, and by person."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from .leaf import Root
from .model import Bools, Ints, Longs, Snapshot, Spans, distinct
from .result import RootRow, Share
from .rules import SEVERITIES, Rule


@dataclass
class RootTally:
    """Collects which root explains which person's drift under which rule."""

    size: int
    _numbers: dict[Root, int] = field(default_factory=dict)
    _rules: dict[int, set[str]] = field(default_factory=dict)
    _others: dict[int, int] = field(default_factory=dict)
    _found: list[tuple[Longs, Ints]] = field(default_factory=list)

    def _number(self, root: Root, rule: str) -> int:
        number = self._numbers.setdefault(root, len(self._numbers))
        self._rules.setdefault(number, set()).add(rule)
        return number

    def people(self, rule: str, roots: list[Root], which: Ints, people: Ints) -> None:
        """Drifting people of one rule and service; `which` points each to its root."""
        numbers = np.array([self._number(root, rule) for root in roots], np.int64)
        self._found.append((numbers[which], people))

    def other(self, rule: str, root: Root) -> None:
        """A drifting verdict about a partner or the organisation."""
        number = self._number(root, rule)
        self._others[number] = self._others.get(number, 0) + 1

    def rows(self) -> tuple[RootRow, ...]:
        """All roots, the one that explains most people (then most verdicts) first, then by name."""
        count = len(self._numbers)
        roots = np.concatenate([found[0] for found in self._found] or [np.empty(0, np.int64)])
        people = np.concatenate([found[1] for found in self._found] or [np.empty(0, np.int32)])
        verdicts = np.bincount(roots, minlength=count)
        found = distinct(roots * max(self.size, 1) + people)
        root_of, person_of = found // max(self.size, 1), found % max(self.size, 1)
        persons = np.bincount(root_of, minlength=count)
        only = np.bincount(person_of, minlength=self.size) == 1
        freed = np.bincount(root_of[only[person_of]], minlength=count)
        rows = [
            RootRow(
                root,
                tuple(sorted(self._rules[number])),
                int(persons[number]),
                int(verdicts[number]) + self._others.get(number, 0),
                int(freed[number]),
            )
            for root, number in self._numbers.items()
        ]
        return tuple(sorted(rows, key=lambda row: (-row.people, -row.verdicts, tuple(part or "" for part in row.root))))


class ShareTally:
    """Counts, for each rule, the judged and the drifting people of every group and unit."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._snapshot = snapshot
        self._judged: dict[bytes, tuple[Longs | None, Longs | None]] = {}
        self.groups: list[Share] = []
        self.units: list[Share] = []

    def _count_judged(self, judged: Bools) -> tuple[Longs | None, Longs | None]:
        key = np.packbits(judged).tobytes()
        if key not in self._judged:
            groups, units = self._snapshot.groups, self._snapshot.units
            self._judged[key] = (
                None if groups is None else groups.people.count(judged),
                None if units is None else units.count(judged),
            )
        return self._judged[key]

    def rule(self, rule: Rule, judged: Bools, drifting: Bools, own: frozenset[str], listed: Bools) -> None:
        """One rule: `own` are the scopes that are a root of one of its drifts; `listed` the people that the report speaks of."""
        if not np.any(drifting & listed):
            return
        groups, units = self._snapshot.groups, self._snapshot.units
        in_groups, in_units = self._count_judged(judged)
        if groups is not None and in_groups is not None:
            drifted, shown = _by_group(groups.of_person, drifting, len(groups.ids)), None
            if not np.all(listed):
                shown = _by_group(groups.of_person, drifting & listed, len(groups.ids))
            for number in np.flatnonzero(drifted if shown is None else shown).tolist():
                self.groups.append(
                    _share(
                        groups.ids[number],
                        groups.names[number],
                        rule,
                        int(in_groups[number]),
                        int(drifted[number]),
                        f"group:{groups.ids[number]}" in own,
                    )
                )
        if units is not None and in_units is not None:
            drifted = units.count(drifting)
            for number in np.flatnonzero(units.count(drifting & listed)).tolist():
                self.units.append(
                    _share(
                        units.paths[number],
                        None,
                        rule,
                        int(in_units[number]),
                        int(drifted[number]),
                        f"unit:{units.paths[number]}" in own,
                    )
                )


def _by_group(of_person: Spans, drifting: Bools, count: int) -> Longs:
    return np.bincount(of_person.gather(np.flatnonzero(drifting)), minlength=count)


def _share(name: str, title: str | None, rule: Rule, judged: int, drifting: int, own: bool) -> Share:
    return Share(name, title, rule.id, judged, drifting, own or (judged >= 2 and drifting == judged))


class PersonTally:
    """Counts each person's drifting verdicts, and remembers the worst severity."""

    def __init__(self, size: int) -> None:
        self.drifts = np.zeros(size, np.int32)
        self.worst = np.full(size, 9, np.int32)

    def add(self, rule: Rule, people: Ints) -> None:
        """The people who drift from a rule on one service, without repeats."""
        self.drifts[people] += 1
        self.worst[people] = np.minimum(self.worst[people], SEVERITIES.index(rule.severity))
