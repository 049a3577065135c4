"""The fewest edits of access rules that end each lock-out and close each hole; they are no part of the plan.

Edits for a hole are found by constraint generation. A sign-in that still gets through is a constraint: one of the
edit sets that cover it (see `access_edits`) must be in the plan. Plans with 1 edit are tried first, then with 2, and
so on, each against the edited rules. Spec: mending 5.2.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

import numpy as np

from ..organisation.access_rules import AccessRule
from ..organisation.columns import Bools
from ..organisation.selector import Selector
from ..organisation.sign_ins import SignIn
from ..sign_in.evaluator import AccessPolicyEvaluator
from ..sign_in.holes import WayIn, holes, slipping
from ..sign_in.lockout import Lockouts, WaysIn, lockouts
from ..sign_in.possible import ProofDemand
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS
from ..verdicts.rules import Rule
from ..words.plural import plural
from ..words.record import record
from .access_edits import EXCLUDE, NO_EDITS, CoveringEdits, Edits, RuleEdit, with_edits
from .constraints import MendingConstraints
from .deadline import Deadline, OutOfTime

MOST_EDITS = 6
_MOST_TRIED = 300  # plans for one hole, once there is one that locks someone out
_MOST_WEIGHED = 40  # plans for one hole whose effects are computed
HOLE, LOCK_OUT = "hole", "lock-out"
BREAK_GLASS, PRIVILEGED = "break-glass", "privileged"
_OUT_OF_TIME = "the time was up before a plan was found; --seconds gives it longer"
_TOO_MANY = f"more than {MOST_EDITS} edits would be needed"
_NO_RULE = "no rule that denies or asks for it can be widened to these sign-ins: write a rule"
_PARTNER = "their partner's row lets no guests in (guests_in)"
_OWN_FACTOR = "a second factor is required of this account itself, and it has none: register one first"

LockedOut = tuple[str, str, str]  # resource, kind, id


@record
class RulePlan:
    """A plan: edits of access rules in words, and their effects.

    `edited` are the rules that change, `rules` all rules afterwards. `drifting` and `drifting_then` count the people
    who drift from the rule of the hole, now and afterwards; both are 0 for a lock-out. `locked_out` are newly locked
    out. `stranded` (ids) can newly get in nowhere at some resource until they register something. `opened` lists, by
    rule that asks for a proof, who newly drifts from it (ids).
    """

    edits: tuple[str, ...]
    edited: tuple[AccessRule, ...]
    rules: tuple[AccessRule, ...]
    drifting: int
    drifting_then: int
    locked_out: tuple[LockedOut, ...]
    stranded: tuple[str, ...]
    opened: tuple[tuple[str, tuple[str, ...]], ...]

    @property
    def objection(self) -> str:
        """Return why the plan is not recommended; "" if it is."""
        if any(kind == BREAK_GLASS for _, kind, _ in self.locked_out):
            return "it locks out a break-glass account"
        count = len({person for _, _, person in self.locked_out})
        return f"it locks out {plural(count, 'privileged person', 'privileged people')}" if count else ""


@record
class Repair:
    """Describes how to close a hole of `rule`, or to end the lock-out of one account (id, kind) from some resources.

    `fewest` is the least number of edits; None where no plan was found, and `because` says why. `plans` are sorted by
    preference: no lock-out first, then the fewest edits.
    """

    problem: str  # HOLE or LOCK_OUT
    rule: str
    hole: WayIn | None
    account: str
    kind: str
    resources: tuple[str, ...]
    plans: tuple[RulePlan, ...]
    because: str

    @property
    def fewest(self) -> int | None:
        """Return the least number of edits."""
        return min((len(plan.edits) for plan in self.plans), default=None)


def sign_in_side(checker: Checker, terms: MendingConstraints, deadline: Deadline) -> Iterator[Repair]:
    """Yield a repair for each lock-out (break-glass accounts first), and for each hole of the rules that drift."""
    if checker.snapshot.access_rules is None:
        return
    search = _Search(checker, terms, deadline)
    about_no_service = [rule for rule in checker.baseline.rules if rule.subject == "people" and not rule.of_services]
    if not about_no_service or any(terms.keeps(rule, None) for rule in about_no_service):
        yield from search.lock_outs()
    yield from search.holes()


class _Effects:
    """The effects of some edits, computed when they are asked for."""

    def __init__(self, search: _Search, edits: Edits) -> None:
        self.evaluator = search.keeper_with(edits)
        self._search = search
        self._drifting: dict[str, Bools] = {}

    @cached_property
    def locked_out(self) -> frozenset[LockedOut]:
        """Return who is locked out."""
        found = self._lockouts.found
        return frozenset((lockout.resource, lockout.of, person) for lockout in found for person in lockout.people)

    @cached_property
    def stranded(self) -> frozenset[tuple[str, int]]:
        """Return who (person number) is stranded at which resource."""
        found = self._lockouts.stranded
        return frozenset((stranded.resource, person) for stranded in found for person in stranded.people.tolist())

    @cached_property
    def _lockouts(self) -> Lockouts:
        return lockouts(self.evaluator)

    @cached_property
    def _checker(self) -> Checker:
        before = self._search.checker
        after = Checker(self.evaluator.snapshot, before.baseline, before.exceptions)
        after.__dict__["gatekeeper"] = self.evaluator  # else it would be built again
        return after

    def drifting_mask(self, rule: Rule) -> Bools:
        """Return which of the people asked about drift from a rule, on any service."""
        if rule.id not in self._drifting:
            self._drifting[rule.id] = _drifting_mask(self._checker, rule, self._search.terms)
        return self._drifting[rule.id]


def _drifting_mask(checker: Checker, rule: Rule, terms: MendingConstraints) -> Bools:
    services = checker.snapshot.services or ()
    applicable = [service for service in services if rule.applies_to(service)] if rule.of_services else [None]
    mask = np.zeros(len(checker.snapshot.people), bool)
    for service in applicable:
        if terms.keeps(rule, None if service is None else service.id):
            mask |= checker.judge(rule, service).verdict == DRIFTS
    return mask & terms.chosen


class _Search:
    """One search for the repairs of a snapshot."""

    def __init__(self, checker: Checker, terms: MendingConstraints, deadline: Deadline) -> None:
        self.checker, self.terms = checker, terms
        self.covering_edits = CoveringEdits(checker.gatekeeper)
        self._evaluator, self._deadline = checker.gatekeeper, deadline
        self._effects: dict[Edits, _Effects] = {}
        self._proof_rules = [
            rule
            for rule in checker.baseline.rules
            if rule.subject == "people" and any(leaf.about == "proof" for leaf in rule.leaves)
        ]

    def keeper_with(self, edits: Edits) -> AccessPolicyEvaluator:
        """Return the same people with edited access rules."""
        return self._evaluator.with_rules(with_edits(self._evaluator.rules, edits, self.checker.snapshot.resources))

    def _effects_of(self, edits: Edits) -> _Effects:
        if edits not in self._effects:
            self._effects[edits] = _Effects(self, edits)
        return self._effects[edits]

    def _plan(self, edits: Edits, rule: Rule | None) -> RulePlan:
        now, then = self._effects_of(NO_EDITS), self._effects_of(edits)
        rules = then.evaluator.rules
        stranded = np.array(sorted({person for _, person in then.stranded - now.stranded}), np.int64)
        return RulePlan(
            edits=tuple(edit.text(rules) for edit in _in_order(edits)),
            edited=tuple(rules[number] for number in sorted({edit.number for edit in edits})),
            rules=rules,
            drifting=0 if rule is None else int(np.count_nonzero(now.drifting_mask(rule))),
            drifting_then=0 if rule is None else int(np.count_nonzero(then.drifting_mask(rule))),
            locked_out=tuple(sorted(then.locked_out - now.locked_out)),
            stranded=tuple(self.checker.snapshot.people.ids.take(stranded)),
            opened=tuple(self._opened(edits)),
        )

    def _opened(self, edits: Edits) -> Iterator[tuple[str, tuple[str, ...]]]:
        """Yield the rules that someone newly drifts from; only excluding an account can open a hole."""
        if not any(edit.kind == EXCLUDE for edit in edits):
            return
        now, then = self._effects_of(NO_EDITS), self._effects_of(edits)
        for rule in self._proof_rules:
            people = np.flatnonzero(then.drifting_mask(rule) & ~now.drifting_mask(rule))
            if len(people):
                yield rule.id, tuple(self.checker.snapshot.people.ids.take(people))

    def lock_outs(self) -> Iterator[Repair]:
        """Yield a repair for each account that is locked out; resources with the same repair are grouped."""
        people, ways_in = self.checker.snapshot.people, WaysIn(self._evaluator)
        locked_out = self._effects_of(NO_EDITS).locked_out
        as_break_glass = {(resource, name) for resource, kind, name in locked_out if kind == BREAK_GLASS}
        resources: dict[tuple[str, str, tuple[int, ...]], list[str]] = {}
        for resource, kind, name in sorted(locked_out):
            (person,) = people.ids.find(name)
            is_repeated = kind != BREAK_GLASS and (resource, name) in as_break_glass
            if self.terms.chosen[person] and not is_repeated:
                barring_rules = tuple(sorted(ways_in.barring_rules(person, resource)))
                resources.setdefault((kind, name, barring_rules), []).append(resource)
        for (kind, name, barring_rules), names in sorted(resources.items()):  # "break-glass" sorts first
            plans, because = self._ending_lock_out(name, kind, names, barring_rules)
            yield Repair(
                problem=LOCK_OUT,
                rule="",
                hole=None,
                account=name,
                kind=kind,
                resources=tuple(names),
                plans=plans,
                because=because,
            )

    def _ending_lock_out(
        self, name: str, kind: str, resources: Sequence[str], barring_rules: Sequence[int]
    ) -> tuple[tuple[RulePlan, ...], str]:
        """Return the plans with the fewest edits for one account, or why there is none."""
        if not barring_rules:
            (person,) = self.checker.snapshot.people.ids.find(name)
            return (), _PARTNER if self._evaluator.unseen_device(person) is None else _OWN_FACTOR
        candidates = [bits for bits in barring_rules if bits.bit_count() <= MOST_EDITS]
        plans, opened = list[RulePlan](), set[str]()
        for bits in sorted(candidates, key=lambda bits: (bits.bit_count(), bits)):
            if plans and bits.bit_count() > len(plans[0].edits):
                break
            if self._deadline.has_passed:
                return (), _OUT_OF_TIME
            numbers = [number for number in range(len(self._evaluator.rules)) if bits >> number & 1]
            edits = frozenset(RuleEdit(number, EXCLUDE, Selector("id", (name,))) for number in numbers)
            if any((resource, kind, name) in self._effects_of(edits).locked_out for resource in resources):
                continue
            plan = self._plan(edits, None)
            if plan.opened and kind != BREAK_GLASS:
                opened.update(rule for rule, _ in plan.opened)
            else:
                plans.append(plan)
        if plans:
            return tuple(sorted(plans, key=lambda plan: (_opened_count(plan), plan.edits))), ""
        if not opened:
            return (), _TOO_MANY
        rules = ", ".join(sorted(opened))
        return (), f"excluding them would open a hole under {rules}: register what is asked for instead"

    def holes(self) -> Iterator[Repair]:
        """Yield a repair for each hole of the rules that drift."""
        for rule in self._proof_rules:
            audience_mask = self._effects_of(NO_EDITS).drifting_mask(rule)
            if not np.any(audience_mask):
                continue
            for leaf in rule.leaves:
                if leaf.asked is None:
                    continue
                for hole in holes(self._evaluator, leaf.asked, audience_mask):
                    plans, because = self._closing_hole(rule, leaf.asked, hole)
                    yield Repair(
                        problem=HOLE,
                        rule=rule.id,
                        hole=hole,
                        account="",
                        kind="",
                        resources=(),
                        plans=plans,
                        because=because,
                    )

    def _closing_hole(self, rule: Rule, asked: ProofDemand, hole: WayIn) -> tuple[tuple[RulePlan, ...], str]:
        """Return the plans that close a hole, or why there is none.

        Larger plans are looked for only while all smaller ones lock someone out.
        """
        closing, plans, because = _HoleClosing(self, asked, hole), list[RulePlan](), _TOO_MANY
        try:
            for size in range(1, MOST_EDITS + 1):
                for edits in list(closing.edits_of_size(size, self._deadline))[:_MOST_WEIGHED]:
                    self._deadline.check()
                    plans.append(self._plan(edits, rule))
                is_enough = any(not plan.objection for plan in plans)
                if is_enough or closing.is_hopeless or (plans and closing.tried_count > _MOST_TRIED):
                    break
        except OutOfTime:
            because = _OUT_OF_TIME
        because = _NO_RULE if closing.is_hopeless else because
        return tuple(sorted(plans, key=_preference)), "" if plans else because


def _opened_count(plan: RulePlan) -> int:
    return sum(len(people) for _, people in plan.opened)


def _preference(plan: RulePlan) -> tuple[object, ...]:
    """Return the sort key of plans that close a hole, the best plan first."""
    return (
        plan.objection != "",
        any(kind == BREAK_GLASS for _, kind, _ in plan.locked_out),
        len(plan.edits),
        len(plan.locked_out),
        len(plan.stranded),
        plan.drifting_then,
        plan.edits,
    )


class _HoleClosing:
    """Finds the edits that close one hole."""

    def __init__(self, search: _Search, asked: ProofDemand, hole: WayIn) -> None:
        self._search, self._asked, self._hole = search, asked, hole
        self._constraints: list[frozenset[Edits]] = []  # one of the edit sets of each must be in the plan
        self._tried = set[Edits]()
        self._closing: list[Edits] = []
        self.is_hopeless = False  # true once a sign-in was met that no edits cover

    @property
    def tried_count(self) -> int:
        """Return how many edit sets were tried."""
        return len(self._tried)

    def edits_of_size(self, most: int, deadline: Deadline) -> Iterator[Edits]:
        """Yield the minimal edit sets of at most this size that close the hole; raises OutOfTime."""
        has_new_constraint = True
        while has_new_constraint and not self.is_hopeless:
            has_new_constraint = False
            for edits in edit_choices(self._constraints, most, deadline):
                if edits in self._tried or any(smaller <= edits for smaller in self._closing):
                    continue
                deadline.check()
                self._tried.add(edits)
                slipped = self._slipping(edits)
                if slipped is None:
                    self._closing.append(edits)
                    yield edits
                    continue
                person, sign_in = slipped
                constraint = self._search.covering_edits.find(self._asked.proof, sign_in, person)
                self._constraints.append(constraint)
                self.is_hopeless, has_new_constraint = not constraint, True
                break

    def _slipping(self, edits: Edits) -> tuple[int, SignIn] | None:
        return slipping(self._search.keeper_with(edits), self._asked, self._hole)


def edit_choices(constraints: Sequence[frozenset[Edits]], most: int, deadline: Deadline) -> Iterator[Edits]:
    """Yield the unions of at most `most` edits that contain an edit set of each constraint; raises OutOfTime."""
    seen = set[Edits]()
    alternatives = [sorted(constraint, key=lambda edits: sorted(map(_key, edits))) for constraint in constraints]

    def extend(chosen: Edits) -> Iterator[Edits]:
        if chosen in seen:
            return
        seen.add(chosen)
        if not len(seen) % 1000:
            deadline.check()
        unmet = (sets for sets in alternatives if not any(edits <= chosen for edits in sets))
        sets = min(unmet, key=len, default=None)
        if sets is None:
            yield chosen
            return
        for edits in sets:
            if len(chosen | edits) <= most:
                yield from extend(chosen | edits)

    return extend(NO_EDITS)


def _in_order(edits: Iterable[RuleEdit]) -> list[RuleEdit]:
    return sorted(edits, key=_key)


def _key(edit: RuleEdit) -> tuple[int, str, str]:
    return edit.number, edit.kind, str(edit.operand)
