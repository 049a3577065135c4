"""What a check found, as values: findings in blocks of one rule and service, groups, units, roots, exceptions, notes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints, Longs, sorted_unique
from ..organisation.snapshot import Snapshot
from ..settings.clashes import Clash
from ..settings.contests import Contest
from ..sign_in.lockout import Lockout, Stranded
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .codes import DRIFTS, UNAVAILABLE, UNKNOWN
from .outcome import Root, Tail
from .remedy import Remedy
from .rules import Baseline, Rule


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
    """A finding about a partner, the organisation or a planned meeting: `subject` is (type, id); of a meeting its label and organiser."""

    rule: Rule
    service: str | None
    subject: tuple[str, str]
    tail: Tail
    label: str = ""
    organiser: int = MISSING


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
        return len(sorted_unique(self.owner[self.as_a_whole]))

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
    """One root: the rules it makes drift, the people, the verdicts, and what mending it does (None beyond the largest roots)."""

    root: Root
    rules: tuple[str, ...]
    people: int
    verdicts: int
    remedy: Remedy | None = None


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
class ServiceRow:
    """A service beside the others: who has an account there, how many of them drift there at worst from a rule of each of SEVERITIES, and
    its verdicts by code."""

    id: str
    title: str
    accounts: int
    worst: tuple[int, ...]
    counts: tuple[int, ...]

    @property
    def drifting(self) -> int:
        """How many people drift there."""
        return sum(self.worst)


def _distinct(some: Iterable[Ints]) -> int:
    every = [people.astype(np.int64) for people in some]
    return len(sorted_unique(np.concatenate(every))) if every else 0


ENDS_SOON_DAYS = 30  # an exception that ends within these days is worth saying


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
    stranded: tuple[Stranded, ...]
    contests: tuple[Contest, ...]
    judging_nobody: tuple[str, ...]
    services: tuple[ServiceRow, ...]
    wanted: frozenset[str] | None  # the verdicts that are listed; None: all
    by: str | None = None  # the framework by whose numbers the findings are told, too
    since: Mapping[str, str | int | None] | None = (
        None  # what became of it since the check kept before; None without a history
    )
    hint: str = ""  # what mending would do, as far as that is known
    line_of: Callable[[int], str] = lambda _: ""  # where a row of settings stands, as FILE:LINE

    @property
    def where(self) -> Callable[[Root], str]:
        """Where the setting of a root stands, as FILE:LINE; "" for what is no setting."""
        settings = self.snapshot.settings
        if settings is None:
            return lambda _: ""
        services = {service.id: number for number, service in enumerate(self.snapshot.services or ())}
        controls = {control: number for number, control in enumerate(settings.controls)}
        scopes = {scope: number for number, scope in enumerate(settings.scope.words)}
        keys = zip(settings.service.tolist(), settings.control.tolist(), settings.scope.codes.tolist(), strict=True)
        rows = dict(zip(keys, settings.row.tolist(), strict=True))

        def told(root: Root) -> str:
            key = services.get(root.service or "", -1), controls.get(root.control, -1), scopes.get(root.scope or "", -1)
            return self.line_of(rows[key]) if key in rows else ""

        return told

    @property
    def contested_people(self) -> int:
        """How many people have a contested value."""
        return _distinct(each.people for each in self.contests)

    @property
    def stranded_people(self) -> int:
        """How many people are stranded somewhere."""
        return _distinct(each.people for each in self.stranded)

    def findings(self) -> Iterator[Block | OtherFinding]:
        """All findings, by rule, then service; every form is written from this one stream."""
        every: list[Block | OtherFinding] = [*self.blocks, *self.others]
        yield from sorted(every, key=lambda finding: (finding.rule.id, finding.service or ""))

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
        """Whether something needed is unknown or unavailable, or a rule judges nobody, or there is nobody to judge."""
        limit = SEVERITIES.index(fail_at)
        idle = any(SEVERITIES.index(rule.severity) <= limit for rule in self.rules if rule.id in self.judging_nobody)
        return self.found((UNKNOWN, UNAVAILABLE), fail_at) or idle or not len(self.snapshot.people)
