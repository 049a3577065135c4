"""The check: every rule of a baseline against every person of a snapshot, by columns."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import groupby

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints, Longs
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..settings.clashes import Clash, clashes
from ..settings.contests import Contest, contests
from ..sign_in.lockout import lockouts
from ..words.record import record
from ..words.vocabulary import SEVERITIES
from .checker import Checker, PairVerdicts
from .codes import DRIFTS, EXCEPTED, EXEMPT, MEETS, VERDICTS, VerdictCodes
from .exceptions import in_force, taken_day
from .others import judge_organisation, judge_partners
from .outcome import Root
from .planned import judge_meetings
from .remedy import Remedies
from .result import Block, CheckResult, ExceptionRow, OtherFinding, ServiceRow
from .rules import AgreedException, Baseline, Rule
from .scope import pairs, unsupported_notes
from .tally import NO_SEVERITY, PersonTally, RootTally, ShareTally


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
        self._whom = _reported(checker, narrowing)
        self._everybody &= narrowing.services is None
        self.chosen = self._whom & self._mine
        self.notes: set[str] = set()
        self.counts: dict[str, Longs] = {}
        self.total = np.zeros(len(VERDICTS), np.int64)
        self.blocks: list[Block] = []
        self.others: list[OtherFinding] = []
        self.covers: dict[str, int] = {}
        self.judging: set[str] = set()  # the rules that judge somebody
        self.by_service: dict[str, Longs] = {}
        self.worst_on: dict[
            str, Ints
        ] = {}  # for each service, each person's worst severity that drifts there; NO_SEVERITY for none
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
        verdicts = self.checker.judge(rule, service)
        for name, covered in verdicts.covers.items():
            self.covers[name] = self.covers.get(name, 0) + int(np.count_nonzero(covered & self._mine))
        if rule.id not in self.judging and bool(np.any(verdicts.verdict[self._mine] != EXEMPT)):
            self.judging.add(rule.id)
        if not self.narrowing.keeps(rule, service.id if service else None):
            return
        if service is not None:
            self.notes.update(unsupported_notes(rule, service))
        self.notes.update(verdicts.notes)
        for selector, whose in ((rule.audience, "the audience"), (rule.exempted, "the key except")):
            self.notes.update(self.checker.scopes.strange(selector, f"{whose} of rule {rule.id}"))
        together.add(verdicts.verdict, self._mine)
        chosen = verdicts.verdict if self._everybody else verdicts.verdict[self.chosen]
        counted = np.bincount(chosen, minlength=len(VERDICTS))
        self.counts[rule.id] = self.counts.get(rule.id, 0) + counted
        self.total += counted
        if service is not None:
            self.by_service[service.id] = self.by_service.get(service.id, 0) + counted
            worst = self.worst_on.setdefault(service.id, np.full(len(verdicts.verdict), NO_SEVERITY, np.int32))
            drifting = (verdicts.verdict == DRIFTS) & self.chosen
            worst[drifting] = np.minimum(worst[drifting], SEVERITIES.index(rule.severity))
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
        if rule.subject == "partners":
            judged = judge_partners(rule, checker.snapshot, checker.exceptions)
        elif rule.subject == "meetings":
            judged = judge_meetings(rule, service, checker)
        else:
            judged = judge_organisation(rule, service, checker.resolver)
        if any(tail.verdict != EXEMPT for _, tail in judged.found) or rule.subject != "meetings":
            self.judging.add(rule.id)
        for name, covered in judged.covers.items():
            self.covers[name] = self.covers.get(name, 0) + covered
        if not self.narrowing.keeps(rule, service.id if service else None):
            return
        self.notes.update(judged.notes)
        if service is not None and rule.subject == "meetings":
            self.notes.update(unsupported_notes(rule, service))
        whose = [MISSING] * len(judged.found) if judged.organisers is None else judged.organisers.tolist()
        # a report about some people speaks of them alone, and of their meetings
        mine = [
            (subject, tail, who)
            for (subject, tail), who in zip(judged.found, whose, strict=True)
            if self.narrowing.people is None or (who != MISSING and self.narrowing.people[who])
        ]
        if self.narrowing.people is not None and judged.organisers is None:
            return
        counted = np.bincount([tail.verdict for _, tail, _ in mine], minlength=len(VERDICTS))
        self.counts[rule.id] = self.counts.get(rule.id, 0) + counted
        labels = self._labels if rule.subject == "meetings" else {}
        for subject, tail, who in mine:
            if tail.verdict in (MEETS, EXEMPT):
                continue
            if tail.verdict == DRIFTS and tail.root is not None:
                self.roots.other(rule.id, tail.root)
            if self.narrowing.verdicts is None or VERDICTS[tail.verdict] in self.narrowing.verdicts:
                label = labels.get(subject[1], "")
                self.others.append(OtherFinding(rule, service.id if service else None, subject, tail, label, who))

    @cached_property
    def _labels(self) -> dict[str, str]:
        table = self.checker.snapshot.meetings
        if table is None or table.labels is None:
            return {}
        every = np.arange(len(table))
        return dict(zip(table.ids.take(every), table.labels.take(every), strict=True))

    def merge(self, other: Run) -> None:
        """Adds what another run found: of other rules, or of the same ones about other people."""
        self.notes |= other.notes
        self.judging |= other.judging
        for service, counted in other.by_service.items():
            self.by_service[service] = self.by_service.get(service, 0) + counted
        for service, worst in other.worst_on.items():
            mine = self.worst_on.get(service)
            self.worst_on[service] = worst if mine is None else np.minimum(mine, worst)
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
        chosen = self._whom
        found, clashing = self._clashes(chosen)
        rules = tuple(rule for rule in checker.baseline.rules if rule.id in self.counts or narrowing.keeps(rule, None))
        locked = lockouts(checker.gatekeeper)
        stranded = tuple(
            replace(each, people=each.people[chosen[each.people]])
            for each in locked.stranded
            if np.any(chosen[each.people])
        )
        for exception in checker.exceptions:
            self.notes.update(checker.scopes.strange(exception.who, f"the key who of exception {exception.id}"))
        for service in snapshot.services or ():
            self.notes.update(checker.scopes.strange(service.accounts, f"the key accounts of service {service.id}"))
        for access_rule in snapshot.access_rules or ():
            for selector, whose in ((access_rule.include, "include"), (access_rule.exclude, "exclude")):
                self.notes.update(checker.scopes.strange(selector, f"the key {whose} of access rule {access_rule.id}"))
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
            self.roots.rows(Remedies(checker, narrowing.keeps, chosen, self.persons.drifts).of),
            self._exceptions(),
            found,
            clashing,
            int(np.count_nonzero(self.persons.drifts)),
            self.persons.drifts,
            self.persons.worst,
            locked.found,
            tuple(sorted(notes)),
            stranded,
            self._contests(chosen),
            self._judging_nobody(rules),
            self._services(chosen),
            narrowing.verdicts,
        )

    def _contests(self, chosen: Bools) -> tuple[Contest, ...]:
        """Contested values, which no rule speaks of: none where the report is narrowed to rules."""
        if self.narrowing.rules is not None or self.narrowing.severities is not None:
            return ()
        return contests(self.checker.resolver, chosen, self.narrowing.services)

    def _judging_nobody(self, rules: Sequence[Rule]) -> tuple[str, ...]:
        """The rules that judge nobody, and do not say that they may."""
        nobody = len(self.checker.snapshot.people) == 0
        return tuple(
            rule.id
            for rule in rules
            if rule.id not in self.judging and (not rule.may_judge_nobody or (nobody and rule.subject == "people"))
        )

    def _services(self, chosen: Bools) -> tuple[ServiceRow, ...]:
        """Services side by side."""
        rows = []
        for service in self.checker.snapshot.services or ():
            if self.narrowing.services is None or service.id in self.narrowing.services:
                worst = self.worst_on.get(service.id, np.empty(0, np.int32))
                counted = self.by_service.get(service.id)
                rows.append(
                    ServiceRow(
                        service.id,
                        service.title,
                        int(np.count_nonzero(self.checker.resolver.accounts(service) & chosen)),
                        tuple(int(np.count_nonzero(worst == place)) for place in range(len(SEVERITIES))),
                        (0,) * len(VERDICTS) if counted is None else tuple(counted.tolist()),
                    )
                )
        return tuple(rows)

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


def _reported(checker: Checker, narrowing: Narrowing) -> Bools:
    """The people that the report speaks of: with services named, only those who have an account on one of them."""
    size = len(checker.snapshot.people)
    whom = np.ones(size, bool) if narrowing.people is None else narrowing.people.copy()
    if narrowing.services is not None:
        accounts = np.zeros(size, bool)
        for service in checker.snapshot.services or ():
            if service.id in narrowing.services:
                accounts |= checker.resolver.accounts(service)
        whom &= accounts
    return whom


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
    narrowing, notes = narrowing or Narrowing(), set[str]()
    task = Task(tuple(pairs(baseline, snapshot, narrowing.keeps, notes)))
    run = Run(Checker(snapshot, baseline, exceptions), narrowing, task).judge(progress)
    run.notes |= notes
    return run.result()
