"""What a check found, as values.

Findings in blocks of one rule and service, groups, units, roots, exceptions, notes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cached_property

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints, Longs, sorted_unique
from ..organisation.snapshot import Snapshot
from ..settings.clashes import Clash
from ..settings.contests import Contest
from ..settings.effective import FACTORY, Cause
from ..sign_in.health import OBSERVED_LONG_DAYS
from ..sign_in.lockout import ConditionalAccess, Lockout, Stranded
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .codes import DRIFTS, UNAVAILABLE, UNKNOWN
from .outcome import Root, VerdictDetail
from .remedy import Remedy
from .rules import Baseline, Rule
from .threshold import LOCKOUT, Threshold


@record
class FindingBlock:
    """The findings about people of one rule and service: `people` ascending, each with its tail."""

    rule: Rule
    service: str | None
    people: Ints
    detail: Ints
    details: tuple[VerdictDetail, ...]


@record
class OtherFinding:
    """A finding about a partner, the organisation or a planned meeting: `subject` is (type, id).

    Of a meeting its label and organiser.
    """

    rule: Rule
    service: str | None
    subject: tuple[str, str]
    detail: VerdictDetail
    label: str = ""
    organiser: int = MISSING


@record
class DriftShare:
    """A group or unit and one rule, with how many of its people are judged and how many drift.

    `as_a_whole` is true if at least two are judged and all of them drift, `own_setting` if a setting of the group or
    unit causes some of these findings.
    """

    id: str
    name: str | None
    rule: str
    judged: int
    drifting: int
    as_a_whole: bool
    own_setting: bool


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
    own_setting: Bools

    @property
    def whole(self) -> int:
        """Return how many distinct owners drift as a whole from at least one rule."""
        return len(sorted_unique(self.owner[self.as_a_whole]))

    @property
    def with_own_setting(self) -> int:
        """Return how many distinct owners have a setting that causes a finding."""
        return len(sorted_unique(self.owner[self.own_setting]))

    def notable(self) -> list[DriftShare]:
        """Return the shares that drift as a whole, and those whose owner has a setting that causes it."""
        return [
            DriftShare(
                id=self.ids[self.owner[row]],
                name=self.names[self.owner[row]],
                rule=self.rules[self.rule[row]],
                judged=int(self.judged[row]),
                drifting=int(self.drifting[row]),
                as_a_whole=bool(self.as_a_whole[row]),
                own_setting=bool(self.own_setting[row]),
            )
            for row in np.flatnonzero(self.as_a_whole | self.own_setting)
        ]


@record
class RootRow:
    """One root.

    The rules it makes drift and the worst severity of them, the people, the verdicts (those of people, and of all
    subjects), and what mending it does (None beyond the largest roots).
    """

    root: Root
    rules: tuple[str, ...]
    severity: str
    people: int
    verdicts: int
    remedy: Remedy | None = None

    @property
    def worst_first(self) -> tuple[object, ...]:
        """Return what tables sort by: the worst severity, then people, then verdicts, then the name."""
        name = tuple(part or "" for part in self.root)
        return SEVERITIES.index(self.severity), -self.people, -self.verdicts, name


@record
class ExceptionRow:
    """An exception today.

    `state` is in-force, idle or expired; `days_left` counts to the last day on which it counts.
    """

    id: str
    rules: tuple[str, ...]
    state: str
    covers: int
    until: str
    days_left: int


@record
class ServiceRow:
    """A service beside the others.

    Who has an account there, how many of them drift there at worst from a rule of each of SEVERITIES, its verdicts by
    code, and the rules none of whose controls it supports.
    """

    id: str
    title: str
    accounts: int
    worst: tuple[int, ...]
    counts: tuple[int, ...]
    not_applicable: tuple[str, ...]

    @property
    def drifting(self) -> int:
        """Return how many people drift there."""
        return sum(self.worst)


@record
class OtherCount:
    """The subjects of one type that are no people.

    How many are judged, how many drift at worst from a rule of each of SEVERITIES, and their verdicts by code.
    """

    type: str
    judged: int
    worst: tuple[int, ...]
    counts: tuple[int, ...]

    @property
    def drifting(self) -> int:
        """Return how many of them drift."""
        return sum(self.worst)


def _distinct(some: Iterable[Ints]) -> int:
    every = [people.astype(np.int64) for people in some]
    return len(sorted_unique(np.concatenate(every))) if every else 0


ENDS_SOON_DAYS = 30  # an exception that ends within these days is worth saying


@record
class CheckResult:
    """The whole answer. `counts` (of people alone) and each rule's counts (of all subjects) are by verdict code."""

    snapshot: Snapshot
    baseline: Baseline
    chosen: Bools
    rules: tuple[Rule, ...]
    counts: tuple[int, ...]
    rule_counts: Mapping[str, tuple[int, ...]]
    pair_counts: Mapping[tuple[str, str | None], tuple[int, ...]]  # by rule and service
    blocks: tuple[FindingBlock, ...]
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
    conditional: tuple[ConditionalAccess, ...]
    notes: tuple[str, ...]
    stranded: tuple[Stranded, ...]
    contests: tuple[Contest, ...]
    judging_nobody: tuple[str, ...]
    services: tuple[ServiceRow, ...]
    other_counts: tuple[OtherCount, ...]
    unclear_people: int  # how many people have a verdict that is unknown or unavailable
    wanted: frozenset[str] | None  # the verdicts that are listed; None: all
    by: str | None = None  # the framework whose numbers are shown with the findings
    since: Mapping[str, str | int | None] | None = (
        None  # what became of it since the check kept before; None without a history
    )
    hint: str = ""  # what mending would do, as far as that is known
    line_of: Callable[[int], str] = lambda _: ""  # the place of a row of settings, as FILE:LINE
    threshold: Threshold = Threshold()  # what makes the exit status 1
    observed_days: float = OBSERVED_LONG_DAYS  # after how many days a rule that is only observed is called old

    @cached_property
    def where(self) -> Callable[[Root], str]:
        """Return where the setting of a root is, as FILE:LINE, also that of a service default.

        "" for what is no setting.
        """
        settings = self.snapshot.settings
        if settings is None:
            return lambda _: ""
        services = {service.id: number for number, service in enumerate(self.snapshot.services or ())}
        controls = {control: number for number, control in enumerate(settings.controls)}
        scopes = {scope: number for number, scope in enumerate(settings.scope.words)}
        keys = zip(settings.service.tolist(), settings.control.tolist(), settings.scope.codes.tolist(), strict=True)
        rows = dict(zip(keys, settings.row.tolist(), strict=True))

        def place_of(root: Root) -> str:
            if root.scope == FACTORY:
                return self.factory_line(root.service, root.control)
            key = services.get(root.service or "", -1), controls.get(root.control, -1), scopes.get(root.scope or "", -1)
            return self.line_of(rows[key]) if key in rows else ""

        return place_of

    def factory_line(self, service: str | None, control: str) -> str:
        """Return where a service gives the default of a control, as FILE:LINE; "" if that is not known."""
        lines = next((each.factory_lines for each in self.snapshot.services or () if each.id == service), {})
        return f"services.yaml:{lines[control]}" if control in lines else ""

    def cause_line(self, service: str | None, control: str, cause: Cause | None) -> str:
        """Return where the cause of a value is, as FILE:LINE; "" for none."""
        if cause is not None and cause.scope == FACTORY:
            return self.factory_line(service, control)
        return self.line_of(cause.row) if cause is not None else ""

    @property
    def contested_people(self) -> int:
        """Return how many people have a contested value."""
        return _distinct(each.people for each in self.contests)

    @property
    def stranded_people(self) -> int:
        """Return how many people are stranded somewhere."""
        return _distinct(each.people for each in self.stranded)

    def findings(self) -> Iterator[FindingBlock | OtherFinding]:
        """Yield all findings, by rule, then service; every form is written from this one stream."""
        every: list[FindingBlock | OtherFinding] = [*self.blocks, *self.others]
        yield from sorted(every, key=lambda finding: (finding.rule.id, finding.service or ""))

    @property
    def ignored_settings(self) -> int:
        """Return how many active settings apply to nothing, because their group, person or unit does not exist."""
        return 0 if self.snapshot.ignored is None else len(self.snapshot.ignored.row)

    @property
    def without_severity(self) -> dict[str, int]:
        """Return what --fail-on may name that no rule has, and so no severity: how many of each there are."""
        return {
            "contested": len(self.contests),
            "contradictions": len(self.clashes),
            "stranded": len(self.stranded),
            LOCKOUT: len(self.lockouts),
            "ignored-settings": self.ignored_settings,
        }

    def failing(self) -> dict[str, int]:
        """Return what of these makes the exit status 1; a lock-out of everyone of a kind always does."""
        found = {
            word: number for word, number in self.without_severity.items() if word in self.threshold.words and number
        }
        everybody = sum(lockout.all for lockout in self.lockouts)
        return found if LOCKOUT in found or not everybody else {**found, LOCKOUT: everybody}

    def holds(self, rule: Rule) -> bool:
        """Return whether a rule judges someone, nothing drifts from it, and nothing is unknown or unavailable.

        It may be loose or settling.
        """
        bad = (DRIFTS, UNKNOWN, UNAVAILABLE)
        return rule.id not in self.judging_nobody and not any(self.rule_counts[rule.id][code] for code in bad)

    def fails(self) -> bool:
        """Return whether anything makes the exit status 1."""
        return bool(self.failing()) or any(self.threshold.fails(rule, self.rule_counts[rule.id]) for rule in self.rules)

    def gaps(self) -> bool:
        """Return whether the answer is less than whole.

        Something needed is unknown or unavailable, a rule judges no one, there is no one to judge, a setting applies to
        nothing, or the snapshot is partial or older than it should be.
        """
        idle = any(rule.id in self.judging_nobody and self.threshold.reaches(rule) for rule in self.rules)
        unclear = any(
            self.threshold.reaches(rule) and any(self.rule_counts[rule.id][code] for code in (UNKNOWN, UNAVAILABLE))
            for rule in self.rules
        )
        return (
            unclear or idle or not len(self.snapshot.people) or bool(self.ignored_settings) or self.snapshot.is_doubtful
        )
