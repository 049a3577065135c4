"""Judges every rule of a baseline about people against the people of a snapshot, or of a part of one, by columns."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from itertools import groupby

import numpy as np

from ..organisation.columns import Bools, Ints, Longs
from ..organisation.services import Service
from ..settings.clashes import clashes
from ..settings.contests import contests
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .checker import Checker, PairVerdicts
from .codes import DRIFTS, EXCEPTED, EXEMPT, MEETS, UNAVAILABLE, UNKNOWN, VERDICTS, VerdictCodes
from .found import PartialResult, ServiceCount
from .outcome import Root, VerdictDetail
from .remedy import EditEffects, add_wanted
from .result import FindingBlock
from .rules import AgreedException, Rule
from .scope import unsupported_notes
from .tally import NO_SEVERITY, PersonTally, RootTally, ShareTally

Pair = tuple[Rule, Service | None]


@record
class Narrowing:
    """Describes what the report is to speak of; None means everything.

    `people` are the ids chosen by person, group or unit.
    """

    rules: frozenset[str] | None = None
    services: frozenset[str] | None = None
    severities: frozenset[str] | None = None
    verdicts: frozenset[str] | None = None
    people: Bools | None = None

    def keeps(self, rule: Rule, service: str | None) -> bool:
        """Return whether a pair of rule and service is in the report."""
        return self.speaks_of(rule) and (self.services is None or service in self.services)

    def speaks_of(self, rule: Rule) -> bool:
        """Return whether a rule is in the report on some service."""
        return (self.rules is None or rule.id in self.rules) and (
            self.severities is None or rule.severity in self.severities
        )

    def needs(self, rule: Rule, exceptions: Sequence[AgreedException]) -> bool:
        """Return whether a rule has to be judged.

        The report speaks of it, or an exception from it has to be counted whole.
        """
        return self.speaks_of(rule) or any(rule.id in exception.rules for exception in exceptions)

    def part(self, first: int, last: int) -> Narrowing:
        """Return the same for some of the people."""
        return replace(self, people=None if self.people is None else self.people[first:last])


class Run:
    """The judging of all people of a snapshot (of a part of one: `first` is the number of its first person in the
    whole).
    """

    def __init__(self, checker: Checker, narrowing: Narrowing, first: int = 0) -> None:
        size = len(checker.snapshot.people)
        self.checker, self.narrowing = checker, narrowing
        self.chosen = reported(checker, narrowing)
        self.found = PartialResult(first)
        self._everybody = narrowing.people is None and narrowing.services is None
        self._worst: dict[str, Ints] = {}  # for each service, each person's worst severity that drifts there
        self._roots, self._shares, self._persons = RootTally(size), ShareTally(checker.snapshot), PersonTally(size)

    def judge(self, pairs: Sequence[Pair], progress: Callable[[int, int], None] | None = None) -> PartialResult:
        """Judges these pairs, all of which are about people; `progress(done, whole)` is called now and then."""
        # Rules about one control stand together, so that its effective values are found once.
        todo = sorted(pairs, key=lambda pair: (sorted(pair[0].controls), pair[0].id))
        done = 0
        for rule, paired in groupby(todo, key=lambda pair: pair[0]):
            together = _Together()
            for _, service in paired:
                self._pair(rule, service, together)
                done += 1
                if progress is not None:
                    progress(done, len(todo))
            if together.judged is not None and together.drifting is not None:
                own = frozenset(together.own)
                self._shares.rule(rule, together.judged, together.drifting, own, self.chosen)
        return self._done()

    def mending(self) -> EditEffects:
        """Return what edits would do to these people. Asked when all is judged."""
        return EditEffects(self.checker, self.narrowing.keeps, self.chosen, self._persons.drifts, self._roots.people)

    def _done(self) -> PartialResult:
        found, narrowing = self.found, self.narrowing
        for name, worst in self._worst.items():
            found.services[name].worst = np.bincount(worst, minlength=NO_SEVERITY + 1)[: len(SEVERITIES)]
        found.roots, found.groups, found.units = self._roots.counts(), self._shares.groups, self._shares.units
        found.drifting = np.flatnonzero(self._persons.drifts).astype(np.int32)
        found.unclear = int(np.count_nonzero(self._persons.unclear))
        found.drifts, found.worst = self._persons.drifts[found.drifting], self._persons.worst[found.drifting]
        if (
            narrowing.rules is None and narrowing.severities is None
        ):  # no rule speaks of contradictions and contested values
            found.clashes, found.clashing = clashes(self.checker.resolver, self.chosen, narrowing.services)
            found.contests = contests(self.checker.resolver, self.chosen, narrowing.services)
        return found

    def _pair(self, rule: Rule, service: Service | None, together: _Together) -> None:
        """Judge one rule on one service, and add counts, causes and findings to the result."""
        verdicts, found = self.checker.judge(rule, service), self.found
        for name, covered in verdicts.covers.items():
            found.covers[name] = found.covers.get(name, 0) + int(np.count_nonzero(covered))
        if rule.id not in found.judging and bool(np.any(verdicts.verdict != EXEMPT)):
            found.judging.add(rule.id)
        if not self.narrowing.keeps(rule, service.id if service else None):
            return
        if service is not None:
            found.notes.update(unsupported_notes(rule, service))
        found.notes.update(verdicts.notes)
        found.reported_rules.add(rule.id)
        together.add(verdicts.verdict)
        drifting = np.flatnonzero(verdicts.verdict == DRIFTS)
        chosen = verdicts.verdict
        if not self._everybody:
            chosen, drifting = chosen[self.chosen], drifting[self.chosen[drifting]]
        counted = np.array([np.count_nonzero(chosen == code) for code in range(len(VERDICTS))], np.int64)
        found.counts[rule.id] = found.counts.get(rule.id, 0) + counted
        found.by_pair[rule.id, service.id if service else None] = counted
        if service is not None:
            there = found.services.setdefault(service.id, ServiceCount())
            there.counts = there.counts + counted
            worst = self._worst.setdefault(service.id, np.full(len(verdicts.verdict), NO_SEVERITY, np.int32))
            worst[drifting] = np.minimum(worst[drifting], SEVERITIES.index(rule.severity))
        if counted[UNKNOWN] + counted[UNAVAILABLE]:
            unclear = (verdicts.verdict == UNKNOWN) | (verdicts.verdict == UNAVAILABLE)
            self._persons.unclear |= unclear & self.chosen
        if counted[MEETS] + counted[EXEMPT] == len(verdicts.verdict):
            return
        people = np.flatnonzero((verdicts.verdict != MEETS) & (verdicts.verdict != EXEMPT))
        if len(people):
            self._findings(rule, service, verdicts, people, together)

    def _findings(
        self, rule: Rule, service: Service | None, verdicts: PairVerdicts, people: Longs, together: _Together
    ) -> None:
        """Add the findings of one rule on one service, with one detail for each distinct reason."""
        details, which = self.checker.details(service, verdicts, people)
        together.own.update(
            detail.root.scope for detail in details if detail.verdict == DRIFTS and detail.root and detail.root.scope
        )
        listed = self.chosen[people]
        drifts = listed & (verdicts.verdict[people] == DRIFTS)
        if np.any(drifts):
            rooted = [detail.root if detail.root is not None else Root(None, "", None, None) for detail in details]
            used, codes = np.unique(which[drifts], return_inverse=True)
            drifting = people[drifts].astype(np.int32)
            self._roots.add(rule.id, [rooted[number] for number in used.tolist()], codes.astype(np.int32), drifting)
            self._persons.add(rule, drifting)
            self._ask(verdicts, [details[number] for number in used.tolist()])
        wanted = self.narrowing.verdicts
        if wanted is not None:
            listed &= np.array([VERDICTS[detail.verdict] in wanted for detail in details])[which]
        if np.any(listed):
            self.found.blocks.append(
                FindingBlock(
                    rule=rule,
                    service=service.id if service else None,
                    people=people[listed].astype(np.int32),
                    detail=which[listed],
                    details=details,
                )
            )

    def _ask(self, verdicts: PairVerdicts, details: Sequence[VerdictDetail]) -> None:
        """What each root that is a setting has to satisfy for these findings to end, and by which doors fail."""
        by_root: dict[Root, list[VerdictDetail]] = {}
        for detail in details:
            if detail.root is not None and detail.root.service is not None:
                by_root.setdefault(detail.root, []).append(detail)
            for leaf, outcome in detail.leaves:
                if leaf.about == "door" and outcome.root is not None:
                    self.found.at_doors.add(outcome.root)
        for root, mine in by_root.items():
            asked = self.found.wanted.setdefault(root, {})
            add_wanted(asked, verdicts.tree, root, mine)


def reported(checker: Checker, narrowing: Narrowing) -> Bools:
    """Return the people that are in the report: with services named, only those who have an account on one of them."""
    size = len(checker.snapshot.people)
    mask = np.ones(size, bool) if narrowing.people is None else narrowing.people.copy()
    if narrowing.services is not None:
        accounts = np.zeros(size, bool)
        for service in checker.snapshot.services or ():
            if service.id in narrowing.services:
                accounts |= checker.resolver.accounts(service)
        mask &= accounts
    return mask


@dataclass(slots=True)
class _Together:
    """Describes what the pairs of one rule say together, for groups and units."""

    judged: Bools | None = None
    drifting: Bools | None = None
    own: set[str] = field(default_factory=set)

    def add(self, verdict: VerdictCodes) -> None:
        judged, drifting = verdict < EXCEPTED, verdict == DRIFTS
        self.judged = judged if self.judged is None else self.judged | judged
        self.drifting = drifting if self.drifting is None else self.drifting | drifting
