"""Judging one pair of rule and service for everyone at once."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cache, cached_property

import numpy as np

from ..door.agenda import Agenda
from ..door.hosts import Hosts, everybody_on, may_start
from ..organisation.columns import MISSING, Bools, Ints, Longs
from ..organisation.part import part_of
from ..organisation.services import Service
from ..organisation.snapshot import Snapshot
from ..settings.observations import ObservedValues, observed
from ..settings.resolver import Resolver
from ..sign_in.coverage import Coverage
from ..sign_in.evaluator import AccessPolicyEvaluator
from ..words.record import record
from .codes import EXCEPTED, EXEMPT, UNKNOWN, VerdictCodes
from .condition import Leaf, Tree, deciding, has_ways, judge, too_few
from .control_leaf import ControlJudge
from .door_leaf import judge_door
from .exceptions import applying, may_be_covered
from .fact_leaf import judge_fact
from .outcome import NO_SERVICES, Judged, Outcome, Root, VerdictDetail, constant
from .proof_leaf import judge_proof
from .rules import AgreedException, Baseline, Rule
from .scope import Scopes


@record
class PairVerdicts:
    """One pair of rule and service judged: a verdict code for each person (uint8), and what leads to it.

    `would_be` is the verdict without exceptions, `exception` the number of the one that covers (MISSING for none);
    `covers` says by id which people each covers, `notes` says what could not be answered. `tree` is None where no leaf
    was judged.
    """

    verdict: VerdictCodes
    would_be: VerdictCodes
    exception: Ints
    judged: Sequence[Judged]
    tree: Tree | None
    answered: bool
    covers: Mapping[str, Bools]
    notes: tuple[str, ...]


_KEPT = 8  # leaves about controls, each with a number for every person


@record
class Excused:
    """For each person the number of the first exception that covers (int32, MISSING for none).

    `covers` is for each exception, by id, the mask of the people that it covers; `notes` say what is not answered.
    """

    exception: Ints
    covers: dict[str, Bools]
    notes: list[str]


class Checker:
    """Judges the pairs of a baseline and a snapshot, one at a time.

    Judging changes nothing, so it may be done again.
    """

    def __init__(self, snapshot: Snapshot, baseline: Baseline, exceptions: Sequence[AgreedException] = ()) -> None:
        self.snapshot, self.baseline = snapshot, baseline
        self.resolver = Resolver(snapshot)
        self.scopes = Scopes(self.resolver)
        self._hosts: dict[str, Hosts] = {}
        self._starting: dict[str, Bools] = {}
        self.exceptions = sorted(exceptions, key=lambda exception: exception.id)

    def alone(self, person: int) -> Checker:
        """Return who judges one active person as this does, and no one else: there they are number 0."""
        return Checker(part_of(self.snapshot, person, person + 1), self.baseline, self.exceptions)

    @cached_property
    def gatekeeper(self) -> AccessPolicyEvaluator:
        """Return the access rules, with the people that each includes."""
        return AccessPolicyEvaluator(self.snapshot)

    @cached_property
    def agenda(self) -> Agenda:
        """Return the planned meetings and their own settings, put in order when a rule first asks about them."""
        return Agenda(self.resolver)

    @cached_property
    def _coverage(self) -> Coverage:
        return Coverage(self.gatekeeper)

    def hosts(self, service: Service) -> Hosts:
        """Return everyone as if they were a host on a service; found once, for all rules about doors there."""
        if service.id not in self._hosts:
            self._hosts[service.id] = everybody_on(self.resolver, service)
        return self._hosts[service.id]

    def starting(self, service: Service) -> Bools:
        """Return mask of the people who may start meetings on a service, as far as is known."""
        if service.id not in self._starting:
            self._starting[service.id] = may_start(self.hosts(service))
        return self._starting[service.id]

    def _leaf(self, leaf: Leaf, rule: Rule, service: Service | None) -> Judged:
        if leaf.about == "person":
            return judge_fact(leaf, self.snapshot)
        if leaf.about == "proof":
            if self.snapshot.access_rules is None:
                return constant(leaf, Outcome(UNKNOWN, "no-access-rules"), len(self.snapshot.people))
            return judge_proof(leaf, self._coverage)
        assert service is not None
        if leaf.about == "door":
            return judge_door(leaf, rule.pinned, self.hosts(service), self.starting(service))
        return self._control_leaf(leaf, rule.pinned, service)

    def _control_leaf(self, leaf: Leaf, pinned: str, service: Service) -> Judged:
        """Return a leaf about a control.

        What the last few leaves said is kept: many rules ask the same, and of one control one after another.
        """
        assert leaf.comparison is not None
        key = service.id, leaf.name, pinned, leaf.comparison.operator, leaf.comparison.operands
        effective = self.resolver.effective(service, leaf.name)
        of, found = self._lately.pop(key, (None, None))
        if found is None or of is not effective:
            judged = ControlJudge(leaf, pinned, service, effective, self.seen(service, leaf.name)).judge()
            found = replace(judged, outcome=cache(judged.outcome))
            if len(self._lately) >= _KEPT:
                del self._lately[next(iter(self._lately))]
        self._lately[key] = effective, found
        return replace(found, leaf=leaf)

    @cached_property
    def _lately(self) -> dict[object, tuple[object, Judged]]:
        return {}

    def leaf_of_meetings(self, leaf: Leaf, rule: Rule, service: Service) -> Judged | None:
        """Return what a leaf says of the planned meetings on a service, where that is known already.

        None where it has to be judged.
        """
        del leaf, rule, service
        return None

    def seen(self, service: Service, control: str) -> ObservedValues | None:
        """Return what was really seen of a control on a service."""
        return observed(self.snapshot, service.id, control)

    def judge(self, rule: Rule, service: Service | None) -> PairVerdicts:
        """Judge one rule about people on one service. Spec: verdicts 2."""
        size = len(self.snapshot.people)
        scope = self.scopes.of(rule, service)
        tree: Tree | None = None
        judged: list[Judged] = []
        verdict = np.full(size, UNKNOWN, np.uint8)
        if scope.answered and rule.needs_services(service):
            judged = [constant(leaf, NO_SERVICES, size) for leaf in rule.leaves]
        elif scope.answered:
            tree = rule.tree_on(service)
            assert tree is not None
            judged = [self._leaf(leaf, rule, service) for leaf in rule.judged_on(service)]
            verdict = judge(tree, {leaf.leaf.number: leaf.verdicts.take(leaf.codes) for leaf in judged}, size).copy()
        verdict[scope.outside] = EXEMPT
        excused = self.excuse(rule, service, verdict)
        exception, would_be = excused.exception, verdict
        if np.any(exception != MISSING):
            verdict = np.where(exception != MISSING, EXCEPTED, verdict).astype(np.uint8)
        return PairVerdicts(
            verdict=verdict,
            would_be=would_be,
            exception=exception,
            judged=judged,
            tree=tree,
            answered=scope.answered,
            covers=excused.covers,
            notes=(*scope.notes, *excused.notes),
        )

    def excuse(self, rule: Rule, service: Service | None, verdict: VerdictCodes, people: Ints | None = None) -> Excused:
        """Return which exceptions in force cover verdicts in need of one, of each person or each of some."""
        covered, covers, notes = np.full(len(verdict), MISSING, np.int32), dict[str, Bools](), list[str]()
        for exception in applying(self.exceptions, rule, service.id if service else None, self.snapshot):
            if exception.who is None:
                continue
            who, note = self.scopes.mask(exception.who, f"the key who of exception {exception.id}", "it covers no one")
            if who is None:
                notes.append(note)
                continue
            mine = (who if people is None else who[people]) & may_be_covered(verdict)
            covers[exception.id] = mine
            covered[mine & (covered == MISSING)] = self.exceptions.index(exception)
        return Excused(covered, covers, notes)

    def details(
        self, service: Service | None, verdicts: PairVerdicts, people: Longs
    ) -> tuple[tuple[VerdictDetail, ...], Ints]:
        """Return what is to be said of these people, each distinct thing once, and which of them each person gets."""
        columns = [leaf.codes[people] for leaf in verdicts.judged]
        excused = verdicts.exception[people]
        if not columns or np.any(excused != MISSING):
            columns.append(excused + 1)
        first, which = _distinct_rows(columns)
        chosen = people[first]
        decided = None
        if verdicts.tree is not None:
            picked = {leaf.leaf.number: leaf.verdicts[leaf.codes[chosen]] for leaf in verdicts.judged}
            narrow = {leaf.leaf.number: leaf.narrow(chosen) for leaf in verdicts.judged if has_ways(verdicts.tree)}
            decided = deciding(verdicts.tree, picked, narrow, len(chosen)).leaf.tolist()
        numbers = [None] * len(chosen) if decided is None else decided
        few = {} if verdicts.tree is None else {place.number: place.control for place in too_few(verdicts.tree)}
        made = [
            self._detail(service, verdicts, person, number, few)
            for person, number in zip(chosen.tolist(), numbers, strict=True)
        ]
        return tuple(made), which

    def _detail(
        self, service: Service | None, verdicts: PairVerdicts, person: int, number: int | None, few: Mapping[int, str]
    ) -> VerdictDetail:
        """Return what is to be said of one person.

        `number` is the leaf that decides, `few` the places of too few ways, with a control of each.
        """
        outcomes = {leaf.leaf.number: (leaf.leaf, leaf.outcome(int(leaf.codes[person]))) for leaf in verdicts.judged}
        reason, root = "no-value" if verdicts.answered else "no-audience", None
        if number is not None and verdicts.tree is not None:
            if number in few:
                reason, root = "not-supported", Root(service.id if service else None, few[number], None, None)
            else:
                reason, root = outcomes[number][1].reason, outcomes[number][1].root
        by = int(verdicts.exception[person])
        return VerdictDetail(
            verdict=int(verdicts.verdict[person]),
            reason=reason,
            leaves=tuple(outcomes.values()),
            root=root,
            exception=None if by == MISSING else self.exceptions[by].id,
            would_be=None if by == MISSING else int(verdicts.would_be[person]),
            decided=number,
        )


def _distinct_rows(columns: Sequence[Ints]) -> tuple[Longs, Ints]:
    """Return the first row of each distinct combination of the columns, and each row's combination number."""
    key, count = columns[0].astype(np.int64), int(columns[0].max()) + 1
    for column in columns[1:]:
        words, codes = np.unique(column, return_inverse=True)
        if count * len(words) > 1 << 62:
            key, count = np.unique(key, return_inverse=True)[1].reshape(-1).astype(np.int64), len(key)
        key, count = key * len(words) + codes, count * len(words)
    _, first, which = np.unique(key, return_index=True, return_inverse=True)
    return first.astype(np.int64), which.reshape(-1).astype(np.int32)
