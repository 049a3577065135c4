"""Adding up drifting verdicts by root, by group and unit, and by person."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from ..organisation.columns import Bools, Ints, Longs, sorted_unique
from ..organisation.snapshot import Snapshot
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .outcome import Root
from .remedy import MOST, Remedy
from .result import RootRow, Shares
from .rules import Rule

NO_SEVERITY = 9  # beside the places in SEVERITIES: no drift


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

    def merge(self, other: RootTally) -> None:
        """Adds what another run found."""
        place = np.zeros(len(other._numbers), np.int64)
        for root, number in other._numbers.items():
            place[number] = mine = self._numbers.setdefault(root, len(self._numbers))
            self._rules.setdefault(mine, set()).update(other._rules[number])
            self._others[mine] = self._others.get(mine, 0) + other._others.get(number, 0)
        self._found += [(place[roots], people) for roots, people in other._found]

    def rows(self, remedies: Callable[[Mapping[Root, Ints]], Mapping[Root, Remedy]]) -> tuple[RootRow, ...]:
        """All roots, the one that explains most people (then most verdicts) first, then by name; the largest with what mending them does.

        `remedies` works it out, given the people whom each root makes drift.
        """
        count = len(self._numbers)
        roots = np.concatenate([found[0] for found in self._found] or [np.empty(0, np.int64)])
        people = np.concatenate([found[1] for found in self._found] or [np.empty(0, np.int32)])
        verdicts = np.bincount(roots, minlength=count)
        found = sorted_unique(roots * max(self.size, 1) + people)
        root_of, person_of = found // max(self.size, 1), (found % max(self.size, 1)).astype(np.int32)
        persons = np.bincount(root_of, minlength=count)
        starts = np.searchsorted(root_of, np.arange(count + 1))
        rows = [
            RootRow(
                root,
                tuple(sorted(self._rules[number])),
                int(persons[number]),
                int(verdicts[number]) + self._others.get(number, 0),
            )
            for root, number in self._numbers.items()
        ]
        rows.sort(key=lambda row: (-row.people, -row.verdicts, tuple(part or "" for part in row.root)))
        numbers = {row.root: self._numbers[row.root] for row in rows[:MOST]}
        mended = remedies({root: person_of[starts[number] : starts[number + 1]] for root, number in numbers.items()})
        return tuple(replace(row, remedy=mended.get(row.root)) for row in rows)


@record
class _RuleShares:
    """One rule's counts for every owner: judged, drifting, and how many of these the report speaks of; `own` are the scopes that are a root
    of one of its drifts."""

    judged: Longs
    drifting: Longs
    shown: Longs
    own: frozenset[str]

    def merged(self, other: _RuleShares) -> _RuleShares:
        """The counts of both, about different people."""
        return _RuleShares(
            self.judged + other.judged,
            self.drifting + other.drifting,
            self.shown + other.shown,
            self.own | other.own,
        )


class _OwnerShares:
    """The shares of groups, or of units, rule by rule."""

    def __init__(self, ids: tuple[str, ...], names: tuple[str | None, ...], scope: str) -> None:
        self.ids, self.names = ids, names
        self._scopes = {f"{scope}:{owner}": number for number, owner in enumerate(ids)}
        self._rules: dict[str, _RuleShares] = {}

    def add(self, rule: str, found: _RuleShares) -> None:
        """One rule, about people of whom nothing was added yet."""
        known = self._rules.get(rule)
        self._rules[rule] = found if known is None else known.merged(found)

    def merge(self, other: _OwnerShares) -> None:
        """Adds what another run found."""
        for rule, found in other._rules.items():
            self.add(rule, found)

    def shares(self) -> Shares:
        """All of them, sorted by owner and rule."""
        rules = tuple(sorted(rule for rule, found in self._rules.items() if found.shown.any()))
        empty = np.empty(0, np.int64)
        columns: list[list[Longs]] = [[], [], [], []]
        wholes: list[Bools] = []
        for number, rule in enumerate(rules):
            found = self._rules[rule]
            owners = np.flatnonzero(found.shown)
            mine = np.zeros(len(self.ids), bool)
            mine[[self._scopes[scope] for scope in found.own if scope in self._scopes]] = True
            judged, drifting = found.judged[owners], found.drifting[owners]
            wholes.append(mine[owners] | ((judged >= 2) & (drifting == judged)))
            for column, cells in zip(columns, (owners, np.full(len(owners), number), judged, drifting), strict=True):
                column.append(cells)
        owner, rule_of, judged, drifting = (np.concatenate(column or [empty]) for column in columns)
        whole = np.concatenate(wholes or [empty.astype(bool)])
        order = np.lexsort((rule_of, owner))
        return Shares(
            self.ids, self.names, rules, owner[order], rule_of[order], judged[order], drifting[order], whole[order]
        )


class ShareTally:
    """Counts, for each rule, the judged and the drifting people of every group and unit."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._groups, self._units = snapshot.groups, snapshot.units
        self._judged: dict[bytes, tuple[Longs | None, Longs | None]] = {}
        ids, names = (self._groups.ids, self._groups.names) if self._groups is not None else ((), ())
        paths = self._units.paths if self._units is not None else ()
        self.groups = _OwnerShares(ids, names, "group")
        self.units = _OwnerShares(paths, (None,) * len(paths), "unit")

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
        in_groups, in_units = self._count_judged(judged)
        for owners, body, counted in ((self.groups, self._groups, in_groups), (self.units, self._units, in_units)):
            if body is not None and counted is not None:
                drifted = body.count_of(people)
                of_shown = drifted if shown is people else body.count_of(shown)
                owners.add(rule.id, _RuleShares(counted, drifted, of_shown, own))

    def merge(self, other: ShareTally) -> None:
        """Adds what another run found: of other rules, or of the same ones about other people."""
        self.groups.merge(other.groups)
        self.units.merge(other.units)


class PersonTally:
    """Counts each person's drifting verdicts, and remembers the worst severity."""

    def __init__(self, size: int) -> None:
        self.drifts = np.zeros(size, np.int32)
        self.worst = np.full(size, NO_SEVERITY, np.int32)

    def add(self, rule: Rule, people: Ints) -> None:
        """The people who drift from a rule on one service, without repeats."""
        self.drifts[people] += 1
        self.worst[people] = np.minimum(self.worst[people], SEVERITIES.index(rule.severity))

    def merge(self, other: PersonTally) -> None:
        """Adds what another run found."""
        self.drifts += other.drifts
        self.worst = np.minimum(self.worst, other.worst)
