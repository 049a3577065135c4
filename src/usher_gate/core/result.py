"""What a check found, as values: findings in blocks of one rule and service, groups, units, roots, exceptions, notes."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from .condition import DRIFTS, UNAVAILABLE, UNKNOWN, VERDICTS, Leaf
from .leaf import Outcome, Root
from .model import Bools, Ints, Longs, Snapshot, distinct
from .record import record
from .rules import SEVERITIES, Baseline, Rule


@record
class Tail:
    """All that a finding says beside its subject: many people share one.

    `verdict` and `would_be` are verdict codes; `decided` is the number of the leaf that decides, None where none does.
    """

    verdict: int
    reason: str
    leaves: tuple[tuple[Leaf, Outcome], ...]
    root: Root | None
    exception: str | None = None
    would_be: int | None = None
    decided: int | None = None

    @property
    def deciding(self) -> tuple[Leaf, Outcome] | None:
        """The leaf that decides, and its outcome."""
        return next(((leaf, outcome) for leaf, outcome in self.leaves if leaf.number == self.decided), None)


@record
class Block:
    """The findings about people of one rule and service: `people` ascending, each with its tail."""

    rule: Rule
    service: str | None
    people: Ints
    tail: Ints
    tails: tuple[Tail, ...]


@record
class OtherFinding:
    """A finding about a partner or the organisation: `subject` is (type, id)."""

    rule: Rule
    service: str | None
    subject: tuple[str, str]
    tail: Tail


@record
class Share:
    """A group or unit and one rule, with how many of its people are judged and how many drift."""

    id: str
    name: str | None
    rule: str
    judged: int
    drifting: int
    as_a_whole: bool


@record
class Shares:
    """The shares of all groups (or of all units) as columns, sorted by owner and rule.

    `owner` points into `ids` and `names`, `rule` into `rules`; the other columns are those of Share.
    """

    ids: tuple[str, ...]
    names: tuple[str | None, ...]
    rules: tuple[str, ...]
    owner: Longs
    rule: Longs
    judged: Longs
    drifting: Longs
    as_a_whole: Bools

    @property
    def whole(self) -> int:
        """How many distinct owners drift as a whole from at least one rule."""
        return len(distinct(self.owner[self.as_a_whole]))

    def wholes(self) -> list[Share]:
        """The shares that drift as a whole."""
        return [
            Share(
                self.ids[self.owner[row]],
                self.names[self.owner[row]],
                self.rules[self.rule[row]],
                int(self.judged[row]),
                int(self.drifting[row]),
                True,
            )
            for row in np.flatnonzero(self.as_a_whole)
        ]


@record
class RootRow:
    """One root: the rules it makes drift, the people, the verdicts, and how many people would drift no more without it."""

    root: Root
    rules: tuple[str, ...]
    people: int
    verdicts: int
    freed: int


@record
class ExceptionRow:
    """An exception today. `state` is in-force, idle or expired; `days_left` counts to the last day on which it counts."""

    id: str
    rules: tuple[str, ...]
    state: str
    covers: int
    until: str
    days_left: int


@record
class Clash:
    """How many people of a service have two values that cannot work together; `first` and `second` are (control, value)."""

    service: str
    first: tuple[str, str]
    second: tuple[str, str]
    people: int
    because: str


@record
class Lockout:
    """Who is locked out of an admin resource."""

    resource: str
    people: tuple[str, ...]
    of: str
    all: bool


@record
class CheckResult:
    """The whole answer. `counts` and each rule's counts are by verdict code."""

    snapshot: Snapshot
    baseline: Baseline
    chosen: Bools
    rules: tuple[Rule, ...]
    counts: tuple[int, ...]
    rule_counts: Mapping[str, tuple[int, ...]]
    blocks: tuple[Block, ...]
    others: tuple[OtherFinding, ...]
    groups: Shares
    units: Shares
    roots: tuple[RootRow, ...]
    exceptions: tuple[ExceptionRow, ...]
    clashes: tuple[Clash, ...]
    clashing_people: int
    drifting_people: int
    drifts_of: Ints  # for each active person, how many verdicts drift
    worst_of: Ints  # for each active person, the worst severity that drifts, as its place in SEVERITIES; 9 for none
    lockouts: tuple[Lockout, ...]
    notes: tuple[str, ...]

    def found(self, verdicts: tuple[int, ...], fail_at: str) -> bool:
        """Whether any verdict of these stands at a rule of at least this severity."""
        limit = SEVERITIES.index(fail_at)
        return any(
            self.rule_counts[rule.id][verdict]
            for rule in self.rules
            if SEVERITIES.index(rule.severity) <= limit
            for verdict in verdicts
        )

    def drifts(self, fail_at: str) -> bool:
        """Whether anything at or above the severity drifts, or everybody with power is locked out."""
        return self.found((DRIFTS,), fail_at) or any(lockout.all for lockout in self.lockouts)

    def gaps(self, fail_at: str) -> bool:
        """Whether something needed is unknown or unavailable."""
        return self.found((UNKNOWN, UNAVAILABLE), fail_at)


def verdict_name(code: int) -> str:
    """The word for a verdict's code."""
    return VERDICTS[code]
