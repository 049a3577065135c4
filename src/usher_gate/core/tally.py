"""Adding up drifting verdicts by root, by group and unit, and by person."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from .leaf import Root
from .model import Bools, Ints, Longs, Snapshot, distinct
from .result import RootRow, Shares
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


class _Columns:
    """The shares of groups, or of units, as they are found: one piece for each rule."""

    def __init__(self, ids: tuple[str, ...], names: tuple[str | None, ...], scope: str) -> None:
        self.ids, self.names = ids, names
        self._scopes = {f"{scope}:{each}": number for number, each in enumerate(ids)}
        self._pieces: list[tuple[str, Longs, Longs, Longs, Bools]] = []

    def add(self, rule: Rule, judged: Longs, drifting: Longs, shown: Longs, own: frozenset[str]) -> None:
        """One rule: for each owner how many are judged, how many drift, and how many of these the report speaks of."""
        owners = np.flatnonzero(shown)
        mine = np.zeros(len(self.ids), bool)
        mine[[self._scopes[scope] for scope in own if scope in self._scopes]] = True
        whole = mine[owners] | ((judged[owners] >= 2) & (drifting[owners] == judged[owners]))
        self._pieces.append((rule.id, owners, judged[owners], drifting[owners], whole))

    def shares(self) -> Shares:
        """All of them, sorted."""
        rules = tuple(sorted({piece[0] for piece in self._pieces}))
        place = {rule: number for number, rule in enumerate(rules)}
        empty = np.empty(0, np.int64)
        owner, judged, drifting = (np.concatenate([piece[k] for piece in self._pieces] or [empty]) for k in (1, 2, 3))
        rule = np.concatenate([np.full(len(piece[1]), place[piece[0]]) for piece in self._pieces] or [empty])
        whole = np.concatenate([piece[4] for piece in self._pieces] or [empty.astype(bool)])
        order = np.lexsort((rule, owner))
        return Shares(
            self.ids, self.names, rules, owner[order], rule[order], judged[order], drifting[order], whole[order]
        )


class ShareTally:
    """Counts, for each rule, the judged and the drifting people of every group and unit."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._groups, self._units = snapshot.groups, snapshot.units
        self._judged: dict[bytes, tuple[Longs | None, Longs | None]] = {}
        ids, names = (self._groups.ids, self._groups.names) if self._groups is not None else ((), ())
        paths = self._units.paths if self._units is not None else ()
        self.groups, self.units = _Columns(ids, names, "group"), _Columns(paths, (None,) * len(paths), "unit")

    def _count_judged(self, judged: Bools) -> tuple[Longs | None, Longs | None]:
        """How many judged people every group and unit has; most rules judge the same people."""
        key = np.packbits(judged).tobytes()
        if key not in self._judged:
            self._judged[key] = (
                None if self._groups is None else self._groups.count(judged),
                None if self._units is None else self._units.count(judged),
            )
        return self._judged[key]

    def rule(self, rule: Rule, judged: Bools, drifting: Bools, own: frozenset[str], listed: Bools) -> None:
        """One rule: `own` are the scopes that are a root of one of its drifts; `listed` the people that the report speaks of."""
        people = np.flatnonzero(drifting)
        shown = people if np.all(listed) else people[listed[people]]
        if not len(shown):
            return
        in_groups, in_units = self._count_judged(judged)
        for columns, body, counted in ((self.groups, self._groups, in_groups), (self.units, self._units, in_units)):
            if body is not None and counted is not None:
                drifted = body.count_of(people)
                columns.add(rule, counted, drifted, drifted if shown is people else body.count_of(shown), own)


class PersonTally:
    """Counts each person's drifting verdicts, and remembers the worst severity."""

    def __init__(self, size: int) -> None:
        self.drifts = np.zeros(size, np.int32)
        self.worst = np.full(size, 9, np.int32)

    def add(self, rule: Rule, people: Ints) -> None:
        """The people who drift from a rule on one service, without repeats."""
        self.drifts[people] += 1
        self.worst[people] = np.minimum(self.worst[people], SEVERITIES.index(rule.severity))
