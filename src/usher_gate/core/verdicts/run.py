"""The check: every rule of a baseline against every person of a snapshot, by columns."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import groupby

import numpy as np

from ..organisation.columns import Bools, Longs
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..settings.clashes import Clash, clashes
from ..sign_in.lockout import lockouts
from ..words.record import record
from .checker import Checker, PairVerdicts
from .codes import DRIFTS, EXCEPTED, EXEMPT, MEETS, VERDICTS, VerdictCodes
from .exceptions import in_force, taken_day
from .others import judge_organisation, judge_partners
from .outcome import Root
from .result import Block, CheckResult, ExceptionRow, OtherFinding
from .rules import AgreedException, Baseline, Rule
from .scope import pairs, unsupported_notes
from .tally import PersonTally, RootTally, ShareTally


@record
class Narrowing:
    """What the report is to speak of; None means everything. `people` are the ids chosen by person, group or unit."""

    rules: frozenset[str] | None = None
    services: frozenset[str] | None = None
    severities: frozenset[str] | None = None
    verdicts: frozenset[str] | None = None
    people: Bools | None = None

    def keeps(self, rule: Rule, service: str | None) -> bool:
        """Whether a pair of rule and service is in the report."""
        return (
            (self.rules is None or rule.id in self.rules)
            and (self.severities is None or rule.severity in self.severities)
            and (self.services is None or service in self.services)
        )


@record
class Task:
    """A part of a check: some rules whole (each with all its services), about everybody or about some people (`share`).

    Rules about the organisation and its partners are judged where `others` says so.
    """

    pairs: Sequence[tuple[Rule, Service | None]]
    share: Bools | None = None
    others: bool = True


class Run:
    """A part of a check: what it has found. Runs of other rules, or about other people, can be merged."""

    def __init__(self, checker: Checker, narrowing: Narrowing, task: Task) -> None:
        snapshot = checker.snapshot
        self.checker, self.narrowing, self.task = checker, narrowing, task
        everybody = np.ones(len(snapshot.people), bool)
        self._everybody = narrowing.people is None and task.share is None
        self._mine = everybody if task.share is None else task.share
        self.chosen = self._mine if narrowing.people is None else narrowing.people & self._mine
        self.notes: set[str] = set()
        self.counts: dict[str, Longs] = {}
        self.total = np.zeros(len(VERDICTS), np.int64)
        self.blocks: list[Block] = []
        self.others: list[OtherFinding] = []
        self.covers: dict[str, int] = {}
        self.roots, self.shares = RootTally(len(everybody)), ShareTally(snapshot)
        self.persons = PersonTally(len(everybody))

    def judge(self, progress: Callable[[int, int], None] | None = None) -> Run:
        """Judges everything; `progress` is told how many of how many pairs are done."""
        # Rules about one control stand together, so that its effective values are found once.
        todo = sorted(self.task.pairs, key=lambda pair: (sorted(pair[0].controls), pair[0].id))
        done = 0
        for rule, paired in groupby(todo, key=lambda pair: pair[0]):
            together = _Together()
            for _, service in paired:
                if rule.subject == "people":
                    self._pair(rule, service, together)
                elif self.task.others:
                    self._other(rule, service)
                done += 1
                if progress is not None:
                    progress(done, len(todo))
            if together.judged is not None and together.drifting is not None:
                own = frozenset(together.own)
                self.shares.rule(rule, together.judged, together.drifting, own, self.chosen)
        return self

    def _pair(self, rule: Rule, service: Service | None, together: _Together) -> None:
        if service is not None:
            self.notes.update(unsupported_notes(rule, service))
        verdicts = self.checker.judge(rule, service)
        self.notes.update(verdicts.notes)
        for name, covered in verdicts.covers.items():
            self.covers[name] = self.covers.get(name, 0) + int(np.count_nonzero(covered & self._mine))
        if not self.narrowing.keeps(rule, service.id if service else None):
            return
        together.add(verdicts.verdict, self._mine)
        chosen = verdicts.verdict if self._everybody else verdicts.verdict[self.chosen]
        counted = np.bincount(chosen, minlength=len(VERDICTS))
        self.counts[rule.id] = self.counts.get(rule.id, 0) + counted
        self.total += counted
        people = np.flatnonzero((verdicts.verdict != MEETS) & (verdicts.verdict != EXEMPT) & self._mine)
        if len(people):
            self._findings(rule, service, verdicts, people, together)

    def _findings(
        self, rule: Rule, service: Service | None, verdicts: PairVerdicts, people: Longs, together: _Together
    ) -> None:
        tails, which = self.checker.tails(service, verdicts, people)
        together.own.update(
            tail.root.scope for tail in tails if tail.verdict == DRIFTS and tail.root and tail.root.scope
        )
        listed = self.chosen[people]
        drifts = listed & (verdicts.verdict[people] == DRIFTS)
        if np.any(drifts):
            rooted = [tail.root if tail.root is not None else Root(None, "", None, None) for tail in tails]
            used, codes = np.unique(which[drifts], return_inverse=True)
            drifting = people[drifts].astype(np.int32)
            self.roots.people(rule.id, [rooted[number] for number in used.tolist()], codes.astype(np.int32), drifting)
            self.persons.add(rule, drifting)
        wanted = self.narrowing.verdicts
        if wanted is not None:
            listed &= np.array([VERDICTS[tail.verdict] in wanted for tail in tails])[which]
        if np.any(listed):
            self.blocks.append(
                Block(rule, service.id if service else None, people[listed].astype(np.int32), which[listed], tails)
            )

    def _other(self, rule: Rule, service: Service | None) -> None:
        checker = self.checker
        judged = (
            judge_partners(rule, checker.snapshot, checker.exceptions)
            if rule.subject == "partners"
            else judge_organisation(rule, service, checker.resolver)
        )
        self.notes.update(judged.notes)
        for name, covered in judged.covers.items():
            self.covers[name] = self.covers.get(name, 0) + covered
        if self.narrowing.people is not None or not self.narrowing.keeps(rule, service.id if service else None):
            return  # a report about some people speaks of them alone
        counted = np.bincount([tail.verdict for _, tail in judged.found], minlength=len(VERDICTS))
        self.counts[rule.id] = self.counts.get(rule.id, 0) + counted
        for subject, tail in judged.found:
            if tail.verdict in (MEETS, EXEMPT):
                continue
            if tail.verdict == DRIFTS and tail.root is not None:
                self.roots.other(rule.id, tail.root)
            if self.narrowing.verdicts is None or VERDICTS[tail.verdict] in self.narrowing.verdicts:
                self.others.append(OtherFinding(rule, service.id if service else None, subject, tail))

    def merge(self, other: Run) -> None:
        """Adds what another run found: of other rules, or of the same ones about other people."""
        self.notes |= other.notes
        for rule, counted in other.counts.items():
            self.counts[rule] = self.counts.get(rule, 0) + counted
        self.total += other.total
        for name, covered in other.covers.items():
            self.covers[name] = self.covers.get(name, 0) + covered
        known = {(block.rule.id, block.service): place for place, block in enumerate(self.blocks)}
        for block in other.blocks:
            place = known.get((block.rule.id, block.service))
            if place is None:
                self.blocks.append(block)
            else:
                self.blocks[place] = self.blocks[place].merged(block)
        self.others += other.others
        self.roots.merge(other.roots)
        self.shares.merge(other.shares)
        self.persons.merge(other.persons)

    def result(self) -> CheckResult:
        """The whole answer, in its fixed order. Asked of the run that all others were merged into."""
        checker, snapshot, narrowing = self.checker, self.checker.snapshot, self.narrowing
        every = np.ones(len(snapshot.people), bool)
        chosen = every if narrowing.people is None else narrowing.people
        found, clashing = self._clashes(chosen)
        rules = tuple(rule for rule in checker.baseline.rules if rule.id in self.counts or narrowing.keeps(rule, None))
        locked = lockouts(checker.gatekeeper)
        notes = self.notes | locked.notes | checker.gatekeeper.notes | set(snapshot.notes) | set(self._snapshot_notes())
        none = (0,) * len(VERDICTS)
        return CheckResult(
            snapshot,
            checker.baseline,
            chosen,
            rules,
            tuple(self.total.tolist()),
            {rule.id: tuple(self.counts[rule.id].tolist()) if rule.id in self.counts else none for rule in rules},
            tuple(sorted(self.blocks, key=lambda block: (block.rule.id, block.service or ""))),
            tuple(sorted(self.others, key=lambda other: (other.rule.id, other.service or "", other.subject))),
            self.shares.groups.shares(),
            self.shares.units.shares(),
            self.roots.rows(),
            self._exceptions(),
            found,
            clashing,
            int(np.count_nonzero(self.persons.drifts)),
            self.persons.drifts,
            self.persons.worst,
            locked.found,
            tuple(sorted(notes)),
        )

    def _clashes(self, chosen: Bools) -> tuple[tuple[Clash, ...], int]:
        """Contradictions, which no rule speaks of: none where the report is narrowed to rules."""
        if self.narrowing.rules is not None or self.narrowing.severities is not None:
            return (), 0
        return clashes(self.checker.resolver, chosen, self.narrowing.services)

    def _exceptions(self) -> tuple[ExceptionRow, ...]:
        snapshot = self.checker.snapshot
        today = taken_day(snapshot)
        rows = []
        for exception in self.checker.exceptions:
            covers = self.covers.get(exception.id, 0)
            state = "expired" if not in_force(exception, snapshot) else "in-force" if covers else "idle"
            days_left = (exception.until - today).days
            rows.append(
                ExceptionRow(exception.id, exception.rules, state, covers, exception.until.isoformat(), days_left)
            )
        return tuple(rows)

    def _snapshot_notes(self) -> list[str]:
        snapshot = self.checker.snapshot
        settings = snapshot.settings
        notes = [
            f"{count} settings of service {service} at the level {level} are ignored: the service has no such level"
            for (service, level), count in self.checker.resolver.left_out.items()
        ]
        if settings is not None and not settings.timed:
            notes.append(
                "settings has no column changed_at: nothing is known to have settled, so no setting counts as young"
            )
        if settings is not None and (late := int(np.count_nonzero(settings.changed > snapshot.taken_at))):
            notes.append(f"{late} settings were changed after the snapshot was taken, and count as young")
        return notes


@dataclass(slots=True)
class _Together:
    """What the pairs of one rule say together, for groups and units."""

    judged: Bools | None = None
    drifting: Bools | None = None
    own: set[str] = field(default_factory=set)

    def add(self, verdict: VerdictCodes, mine: Bools) -> None:
        judged, drifting = (verdict < EXCEPTED) & mine, (verdict == DRIFTS) & mine
        self.judged = judged if self.judged is None else self.judged | judged
        self.drifting = drifting if self.drifting is None else self.drifting | drifting


def check(
    snapshot: Snapshot,
    baseline: Baseline,
    exceptions: Sequence[AgreedException] = (),
    narrowing: Narrowing | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> CheckResult:
    """Judges a snapshot against a baseline. `progress` is told how many of how many pairs are done.

    Everything is judged, so that exceptions and groups are counted whole; narrowing only chooses what is reported.
    """
    notes: set[str] = set()
    task = Task(tuple(pairs(baseline, snapshot, notes)))
    run = Run(Checker(snapshot, baseline, exceptions), narrowing or Narrowing(), task).judge(progress)
    run.notes |= notes
    return run.result()
