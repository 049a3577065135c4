"""The check: every rule of a baseline against every person of a snapshot, by columns."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from .access import Gatekeeper
from .condition import (
    DRIFTS,
    EXCEPTED,
    EXEMPT,
    LOOSE,
    MEETS,
    SETTLING,
    UNKNOWN,
    VERDICTS,
    Codes,
    Leaf,
    deciding,
    judge,
    leaves,
    restrict,
    too_few,
)
from .contradict import clashes
from .leaf import ControlJudge, Judged, Outcome, Root, constant, judge_fact, judge_proof, observed
from .model import MISSING, Bools, Ints, Longs, Service, Snapshot
from .others import judge_organisation, judge_partners
from .record import record
from .resolve import Effective, Resolver
from .result import Block, CheckResult, Clash, ExceptionRow, OtherFinding, Tail
from .rules import AgreedException, Baseline, Rule
from .scope import Scopes, in_force, pairs, taken_day, unsupported_notes
from .tally import PersonTally, RootTally, ShareTally

_KEPT_COLUMNS = 8
ENDS_SOON_DAYS = 30


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


@dataclass(slots=True)
class Verdicts:
    """One pair of rule and service judged: a verdict code for each person, and what leads to it."""

    verdict: Codes
    would_be: Codes
    exception: Ints
    judged: Sequence[Judged]
    answered: bool = True


@dataclass(slots=True)
class _RuleMasks:
    """What the pairs of one rule say together, for groups and units."""

    judged: Bools
    drifting: Bools
    own: set[str] = field(default_factory=set)


class Checker:
    """Judges the pairs of a baseline and a snapshot, one at a time."""

    def __init__(self, snapshot: Snapshot, baseline: Baseline, exceptions: Sequence[AgreedException] = ()) -> None:
        self.snapshot, self.baseline = snapshot, baseline
        self.resolver = Resolver(snapshot)
        self.scopes = Scopes(snapshot, self.resolver)
        self.exceptions = sorted(exceptions, key=lambda each: each.id)
        self.covers = dict.fromkeys((each.id for each in self.exceptions), 0)
        self._kept: dict[tuple[str, str], Effective] = {}

    @cached_property
    def gatekeeper(self) -> Gatekeeper:
        """The access rules, with whom each includes."""
        return Gatekeeper(self.snapshot)

    def effective(self, service: Service, control: str) -> Effective:
        """The effective values of a service and control; the last few are kept."""
        key = (service.id, control)
        if key not in self._kept:
            while len(self._kept) >= _KEPT_COLUMNS:
                del self._kept[next(iter(self._kept))]
            self._kept[key] = self.resolver.effective(service, control)
        return self._kept[key]

    def _leaf(self, leaf: Leaf, rule: Rule, service: Service | None) -> Judged:
        if leaf.about == "person":
            return judge_fact(leaf, self.snapshot)
        if leaf.about == "proof":
            if self.snapshot.access_rules is None:
                return constant(leaf, Outcome(UNKNOWN, "no-access-rules"), len(self.snapshot.people))
            return judge_proof(leaf, self.gatekeeper)
        assert service is not None
        return ControlJudge(
            leaf,
            rule.pinned,
            service,
            self.effective(service, leaf.name),
            observed(self.snapshot, service.id, leaf.name),
        ).judge()

    def judge(self, rule: Rule, service: Service | None) -> Verdicts:
        """One rule about people on one service. Source: domain, "Verdicts"."""
        size = len(self.snapshot.people)
        outside, answered = self.scopes.outside(rule, service)
        tree = rule.expect if service is None else restrict(rule.expect, service.controls)
        assert tree is not None
        judged: list[Judged] = []
        if not answered:
            verdict = np.full(size, UNKNOWN, np.uint8)
        elif rule.controls and service is None:
            judged = [constant(leaf, Outcome(UNKNOWN, "no-value"), size) for leaf in rule.leaves]
            verdict = np.full(size, UNKNOWN, np.uint8)
        else:
            wanted = {leaf.number for leaf in leaves(tree)}
            judged = [self._leaf(leaf, rule, service) for leaf in rule.leaves if leaf.number in wanted]
            verdict = judge(tree, {each.leaf.number: each.verdicts[each.codes] for each in judged}, size).copy()
        verdict[outside] = EXEMPT
        would_be = verdict
        covered = self._except(rule, service, verdict)
        if np.any(covered != MISSING):
            verdict = np.where(covered != MISSING, EXCEPTED, verdict).astype(np.uint8)
        return Verdicts(verdict, would_be, covered, judged, answered)

    def _except(self, rule: Rule, service: Service | None, verdict: Codes) -> Ints:
        """For each person the first exception in force that covers a verdict in need of it, MISSING for none."""
        covered = np.full(len(verdict), MISSING, np.int32)
        for number, exception in enumerate(self.exceptions):
            if exception.who is None or rule.id not in exception.rules or not in_force(exception, self.snapshot):
                continue
            if exception.services is not None and (service is None or service.id not in exception.services):
                continue
            who = self.scopes.mask(exception.who, f"the key who of exception {exception.id}", "it covers nobody")
            if who is None:
                continue
            covers = who & (verdict <= LOOSE) & (verdict != SETTLING)
            self.covers[exception.id] += int(np.count_nonzero(covers))
            covered[covers & (covered == MISSING)] = number
        return covered

    def tails(
        self, rule: Rule, service: Service | None, verdicts: Verdicts, people: Longs
    ) -> tuple[tuple[Tail, ...], Ints]:
        """What is to be said of these people, each distinct thing once, and which of them each person gets."""
        columns = [each.codes[people] for each in verdicts.judged]
        excused = verdicts.exception[people]
        if not columns or np.any(excused != MISSING):
            columns.append(excused + 1)
        first, which = _distinct(columns)
        tree = rule.expect if service is None else restrict(rule.expect, service.controls)
        assert tree is not None
        chosen = people[first]
        picked = {each.leaf.number: each.verdicts[each.codes[chosen]] for each in verdicts.judged}
        constant_verdict = not verdicts.answered or (bool(rule.controls) and service is None)
        decided = None if constant_verdict else deciding(tree, picked, len(chosen))[1]
        few = {each.number: each.control for each in too_few(tree)}
        made = []
        for place, person in enumerate(chosen.tolist()):
            outcomes = {
                each.leaf.number: (each.leaf, each.outcome(int(each.codes[person]))) for each in verdicts.judged
            }
            number = None if decided is None else int(decided[place])
            if number is None:
                reason, root = ("no-value" if verdicts.answered else "no-audience"), None
            elif number in few:
                reason, root = "not-supported", Root(service.id if service else None, few[number], None, None)
            else:
                reason, root = outcomes[number][1].reason, outcomes[number][1].root
            by = int(verdicts.exception[person])
            made.append(
                Tail(
                    int(verdicts.verdict[person]),
                    reason,
                    tuple(outcomes.values()),
                    root,
                    None if by == MISSING else self.exceptions[by].id,
                    None if by == MISSING else int(verdicts.would_be[person]),
                    number,
                )
            )
        return tuple(made), which


def _distinct(columns: Sequence[Ints]) -> tuple[Longs, Ints]:
    """The first row of each distinct combination of the columns, and for each row the number of its combination."""
    key, count = columns[0].astype(np.int64), int(columns[0].max()) + 1
    for column in columns[1:]:
        words, codes = np.unique(column, return_inverse=True)
        if count * len(words) > 1 << 62:
            key, count = np.unique(key, return_inverse=True)[1].reshape(-1).astype(np.int64), len(key)
        key, count = key * len(words) + codes, count * len(words)
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    return first.astype(np.int64), which.reshape(-1).astype(np.int32)


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
    return _Run(snapshot, baseline, exceptions, narrowing or Narrowing(), progress).result()


class _Run:
    """One check under way: what has been found so far."""

    def __init__(
        self,
        snapshot: Snapshot,
        baseline: Baseline,
        exceptions: Sequence[AgreedException],
        narrowing: Narrowing,
        progress: Callable[[int, int], None] | None,
    ) -> None:
        self.checker = Checker(snapshot, baseline, exceptions)
        self.snapshot, self.narrowing, self.progress = snapshot, narrowing, progress
        size = len(snapshot.people)
        self.chosen = np.ones(size, bool) if narrowing.people is None else narrowing.people
        self.notes: set[str] = set()
        self.counts: dict[str, Longs] = {}
        self.total = np.zeros(len(VERDICTS), np.int64)
        self.blocks: list[Block] = []
        self.others: list[OtherFinding] = []
        self.roots, self.shares, self.persons = RootTally(size), ShareTally(snapshot), PersonTally(size)
        self.masks: dict[str, _RuleMasks] = {}

    def _pair(self, rule: Rule, service: Service | None) -> None:
        if service is not None:
            self.notes.update(unsupported_notes(rule, service))
        verdicts = self.checker.judge(rule, service)
        kept = self.narrowing.keeps(rule, service.id if service else None)
        if not kept:
            return
        masks = self.masks.get(rule.id)
        drifting = verdicts.verdict == DRIFTS
        judged = verdicts.verdict < EXCEPTED
        if masks is None:
            masks = self.masks[rule.id] = _RuleMasks(judged, drifting)
        else:
            masks.judged, masks.drifting = masks.judged | judged, masks.drifting | drifting
        chosen = verdicts.verdict if self.narrowing.people is None else verdicts.verdict[self.chosen]
        counted = np.bincount(chosen, minlength=len(VERDICTS))
        self.counts[rule.id] = self.counts.get(rule.id, 0) + counted
        self.total += counted
        people = np.flatnonzero((verdicts.verdict != MEETS) & (verdicts.verdict != EXEMPT))
        if len(people):
            self._findings(rule, service, verdicts, people, masks)

    def _findings(
        self, rule: Rule, service: Service | None, verdicts: Verdicts, people: Longs, masks: _RuleMasks
    ) -> None:
        tails, which = self.checker.tails(rule, service, verdicts, people)
        masks.own.update(tail.root.scope for tail in tails if tail.verdict == DRIFTS and tail.root and tail.root.scope)
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
        judged = (
            judge_partners(rule, self.checker)
            if rule.subject == "partners"
            else judge_organisation(rule, service, self.checker)
        )
        if self.narrowing.people is not None or not self.narrowing.keeps(rule, service.id if service else None):
            return  # a report about some people speaks of them alone
        counted = np.bincount([tail.verdict for _, tail in judged], minlength=len(VERDICTS))
        self.counts[rule.id] = self.counts.get(rule.id, 0) + counted
        for subject, tail in judged:
            if tail.verdict in (MEETS, EXEMPT):
                continue
            if tail.verdict == DRIFTS and tail.root is not None:
                self.roots.other(rule.id, tail.root)
            if self.narrowing.verdicts is None or VERDICTS[tail.verdict] in self.narrowing.verdicts:
                self.others.append(OtherFinding(rule, service.id if service else None, subject, tail))

    def result(self) -> CheckResult:
        """Judges everything, and puts it in its fixed order."""
        baseline, snapshot, scopes = self.checker.baseline, self.snapshot, self.checker.scopes
        todo = list(pairs(baseline, snapshot, self.notes))
        # Rules about one control stand together, so that its effective values are found once.
        todo.sort(key=lambda pair: (sorted(pair[0].controls), pair[0].id))
        for done, (rule, service) in enumerate(todo):
            if rule.subject == "people":
                self._pair(rule, service)
                if done + 1 == len(todo) or todo[done + 1][0] is not rule:
                    self._share(rule)
            else:
                self._other(rule, service)
            if self.progress is not None:
                self.progress(done + 1, len(todo))
        found, clashing = self._clashes()
        rules = tuple(rule for rule in baseline.rules if rule.id in self.counts or self.narrowing.keeps(rule, None))
        lockouts = tuple(self.checker.gatekeeper.lockouts())
        notes = (
            self.notes
            | scopes.notes
            | self.checker.gatekeeper.notes
            | set(snapshot.notes)
            | set(self._snapshot_notes())
        )
        none = (0,) * len(VERDICTS)
        return CheckResult(
            snapshot,
            baseline,
            self.chosen,
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
            lockouts,
            tuple(sorted(notes)),
        )

    def _clashes(self) -> tuple[tuple[Clash, ...], int]:
        """Contradictions, which no rule speaks of: none where the report is narrowed to rules."""
        if self.narrowing.rules is not None or self.narrowing.severities is not None:
            return (), 0
        return clashes(self.snapshot, self.checker, self.chosen, self.narrowing.services)

    def _share(self, rule: Rule) -> None:
        masks = self.masks.pop(rule.id, None)
        if masks is not None:
            self.shares.rule(rule, masks.judged, masks.drifting, frozenset(masks.own), self.chosen)

    def _exceptions(self) -> tuple[ExceptionRow, ...]:
        today = taken_day(self.snapshot)
        rows = []
        for exception in self.checker.exceptions:
            covers = self.checker.covers[exception.id]
            state = "expired" if not in_force(exception, self.snapshot) else "in-force" if covers else "idle"
            rows.append(
                ExceptionRow(
                    exception.id,
                    exception.rules,
                    state,
                    covers,
                    exception.until.isoformat(),
                    (exception.until - today).days,
                )
            )
        return tuple(rows)

    def _snapshot_notes(self) -> list[str]:
        settings, resolver = self.snapshot.settings, self.checker.resolver
        notes = [
            f"{count} settings of service {service} at the level {level} are ignored: the service has no such level"
            for (service, level), count in resolver.left_out.items()
        ]
        if settings is not None and not settings.timed:
            notes.append(
                "settings has no column changed_at: nothing is known to have settled, so no setting counts as young"
            )
        if settings is not None and (late := int(np.count_nonzero(settings.changed > self.snapshot.taken_at))):
            notes.append(f"{late} settings were changed after the snapshot was taken, and count as young")
        return notes
