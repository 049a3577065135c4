"""Adding up findings by root, by group and unit, and by person."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ..organisation.columns import Bools, Ints, Longs, sorted_unique
from ..organisation.snapshot import Snapshot
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .outcome import Root
from .remedy import MOST, MOST_BEYOND, Remedy
from .result import RootRow, Shares
from .rules import Rule

NO_SEVERITY = 9  # beside the places in SEVERITIES: no finding


@record
class RootCount:
    """A root: the rules that it makes drift, how many people, how many verdicts."""

    rules: frozenset[str]
    people: int
    verdicts: int

    def plus(self, other: RootCount) -> RootCount:
        """Return the counts of both, about different people."""
        return RootCount(self.rules | other.rules, self.people + other.people, self.verdicts + other.verdicts)


@dataclass
class RootTally:
    """Collects which root explains which person's drift under which rule."""

    size: int
    _numbers: dict[Root, int] = field(default_factory=dict)
    _rules: dict[int, set[str]] = field(default_factory=dict)
    _found: list[tuple[Longs, Ints]] = field(default_factory=list)

    def _number(self, root: Root, rule: str) -> int:
        number = self._numbers.setdefault(root, len(self._numbers))
        self._rules.setdefault(number, set()).add(rule)
        return number

    def add(self, rule: str, roots: list[Root], which: Ints, people: Ints) -> None:
        """Drifting people of one rule and service; `which` points each to its root."""
        numbers = np.array([self._number(root, rule) for root in roots], np.int64)
        self._found.append((numbers[which], people))

    @cached_property
    def _people_of(self) -> tuple[Ints, Longs]:
        """Return the people of each root, root by root, each once, and where each root's begin.

        Asked when all is added.
        """
        roots = np.concatenate([found[0] for found in self._found] or [np.empty(0, np.int64)])
        people = np.concatenate([found[1] for found in self._found] or [np.empty(0, np.int32)])
        found = sorted_unique(roots * max(self.size, 1) + people)
        starts = np.searchsorted(found, np.arange(len(self._numbers) + 1) * max(self.size, 1))
        return (found % max(self.size, 1)).astype(np.int32), starts.astype(np.int64)

    def people(self, root: Root) -> Ints:
        """Return the people that a cause makes drift, ascending."""
        number = self._numbers.get(root)
        people, starts = self._people_of
        return people[:0] if number is None else people[int(starts[number]) : int(starts[number + 1])]

    def counts(self) -> dict[Root, RootCount]:
        """Return every root with what it makes drift."""
        verdicts = np.zeros(len(self._numbers), np.int64)
        for roots, _ in self._found:
            verdicts += np.bincount(roots, minlength=len(verdicts))
        persons = np.diff(self._people_of[1])
        return {
            root: RootCount(frozenset(self._rules[number]), int(persons[number]), int(verdicts[number]))
            for root, number in self._numbers.items()
        }


def root_rows(
    roots: Mapping[Root, RootCount],
    severity_of: Mapping[str, str],
    remedies: Callable[[Sequence[Root]], Mapping[Root, Remedy]],
) -> tuple[RootRow, ...]:
    """Return all roots, the one that explains most people (then most verdicts) first, then by name.

    What mending them does is known of the largest, and of those that tables show first; `severity_of` names the
    severity of each rule.
    """
    rows = []
    for root, count in roots.items():
        worst = min((severity_of[rule] for rule in count.rules), key=SEVERITIES.index)
        rows.append(
            RootRow(
                root=root,
                rules=tuple(sorted(count.rules)),
                severity=worst,
                people=count.people,
                verdicts=count.verdicts,
            )
        )
    rows.sort(key=lambda row: (-row.people, -row.verdicts, tuple(part or "" for part in row.root)))
    worst_first = sorted(rows[MOST:], key=lambda row: row.worst_first)
    mended = remedies([row.root for row in (*rows[:MOST], *worst_first[:MOST_BEYOND])])
    return tuple(replace(row, remedy=mended.get(row.root)) for row in rows)


@record
class OwnerCounts:
    """One rule's counts for every group (or unit).

    Judged, drifting, and how many of these the report speaks of (int32 each); `own` are the scopes that are a root of
    one of its findings.
    """

    judged: Ints
    drifting: Ints
    shown: Ints
    own: frozenset[str]

    def plus(self, other: OwnerCounts) -> OwnerCounts:
        """Return the counts of both, about different people."""
        return OwnerCounts(
            self.judged + other.judged,
            self.drifting + other.drifting,
            self.shown + other.shown,
            self.own | other.own,
        )


def shares(
    counts: Mapping[str, OwnerCounts], ids: tuple[str, ...], names: tuple[str | None, ...], scope: str
) -> Shares:
    """Return the shares of all groups, or of all units (`scope` says which), by rule; sorted by owner and rule."""
    scopes = {f"{scope}:{owner}": number for number, owner in enumerate(ids)}
    rules = tuple(sorted(rule for rule, found in counts.items() if found.shown.any()))
    empty = np.empty(0, np.int64)
    columns: list[list[Longs]] = [[], [], [], []]
    wholes: list[Bools] = []
    own_settings: list[Bools] = []
    for number, rule in enumerate(rules):
        found = counts[rule]
        owners = np.flatnonzero(found.shown)
        # Owners whose own setting causes findings of the rule.
        mine = np.zeros(len(ids), bool)
        mine[[scopes[scope] for scope in found.own if scope in scopes]] = True
        judged, drifting = found.judged[owners].astype(np.int64), found.drifting[owners].astype(np.int64)
        wholes.append((judged >= 2) & (drifting == judged))
        own_settings.append(mine[owners])
        for column, cells in zip(columns, (owners, np.full(len(owners), number), judged, drifting), strict=True):
            column.append(cells)
    # Join the rules' columns, and sort them by owner and rule.
    owner, rule_of, judged, drifting = (np.concatenate(column or [empty]) for column in columns)
    whole, own = (np.concatenate(flags or [empty.astype(bool)]) for flags in (wholes, own_settings))
    order = np.lexsort((rule_of, owner))
    return Shares(
        ids=ids,
        names=names,
        rules=rules,
        owner=owner[order],
        rule=rule_of[order],
        judged=judged[order],
        drifting=drifting[order],
        as_a_whole=whole[order],
        own_setting=own[order],
    )


class ShareTally:
    """Counts, for each rule, the judged and the drifting people of every group and unit."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._groups, self._units = snapshot.groups, snapshot.units
        self._judged: dict[bytes, tuple[Ints | None, Ints | None]] = {}
        self.groups: dict[str, OwnerCounts] = {}
        self.units: dict[str, OwnerCounts] = {}

    def _count_judged(self, judged: Bools) -> tuple[Ints | None, Ints | None]:
        """Return how many judged people every group and unit has; most rules judge the same people."""
        key = np.packbits(judged).tobytes()
        if key not in self._judged:
            self._judged[key] = (
                None if self._groups is None else self._groups.count(judged).astype(np.int32),
                None if self._units is None else self._units.count(judged).astype(np.int32),
            )
        return self._judged[key]

    def rule(self, rule: Rule, judged: Bools, drifting: Bools, own: frozenset[str], listed: Bools) -> None:
        """One rule: `own` are the scopes that are a root of one of its findings.

        `listed` the people that the report speaks of.
        """
        people = np.flatnonzero(drifting)
        shown = people if np.all(listed) else people[listed[people]]
        in_groups, in_units = self._count_judged(judged)
        for counts, body, counted in ((self.groups, self._groups, in_groups), (self.units, self._units, in_units)):
            if body is not None and counted is not None:
                drifted = body.count_of(people).astype(np.int32)
                of_shown = drifted if shown is people else body.count_of(shown).astype(np.int32)
                counts[rule.id] = OwnerCounts(counted, drifted, of_shown, own)


class PersonTally:
    """Counts each person's findings, and remembers the worst severity."""

    def __init__(self, size: int) -> None:
        self.drifts = np.zeros(size, np.int32)
        self.worst = np.full(size, NO_SEVERITY, np.int32)
        self.unclear = np.zeros(size, bool)  # who has a verdict that is unknown or unavailable

    def add(self, rule: Rule, people: Ints) -> None:
        """The people who drift from a rule on one service, without repeats."""
        self.drifts[people] += 1
        self.worst[people] = np.minimum(self.worst[people], SEVERITIES.index(rule.severity))
