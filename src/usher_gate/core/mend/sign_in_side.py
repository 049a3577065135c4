"""The fewest edits of access rules that end each lock-out and close each hole, apart from the plan and never counted in it.

Which edits are needed is learned: for a sign-in that still slips through, the sets of edits that would make a rule cover it are one more
thing that a plan needs (see `access_edits`). Plans are looked for with 1 edit, then with 2, and so on; each is tried before the rules as
they would be. Source: changes, section 3 ("Beyond settings"); reading 38; answers, B 21.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

import numpy as np

from ..organisation.access_rules import AccessRule
from ..organisation.columns import Bools
from ..organisation.selector import Selector
from ..organisation.sign_ins import SignIn
from ..sign_in.holes import WayIn, holes, slipping
from ..sign_in.lockout import bars, lockouts
from ..sign_in.possible import Asked
from ..verdicts.checker import Checker
from ..verdicts.codes import DRIFTS
from ..verdicts.rules import Rule
from ..words.record import record
from .access_edits import EXCUSE, NO_EDITS, Edits, RuleEdit, Terms, with_edits
from .deadline import Deadline, OutOfTime
from .terms import Terms as Asking

MOST_EDITS = 6
_MOST_TRIED = 300  # plans for one hole, once one was found that locks somebody out
_MOST_WEIGHED = 40  # plans for one hole whose lock-outs are looked at
HOLE, LOCK_OUT = "hole", "lock-out"
OUT_OF_TIME = "the time did not suffice to look; --seconds gives it longer"
_TOO_MANY = f"more than {MOST_EDITS} edits would be needed"
BREAK_GLASS = "break-glass"

Locked = tuple[str, str, str]  # resource, kind, id


@record
class RulePlan:
    """Some edits of access rules, in words, and what they do. `edited` are the rules that become others, `rules` all rules then.

    Of the people who drift from the rule whose hole it is, `drifting` do now and `drifting_then` afterwards (0 for a lock-out).
    `locked_out` are newly locked out, `stranded` newly get in nowhere somewhere until they register something (ids), `opened` says by rule
    who newly drifts from one that asks for a proof (ids).
    """

    edits: tuple[str, ...]
    edited: tuple[AccessRule, ...]
    rules: tuple[AccessRule, ...]
    drifting: int
    drifting_then: int
    locked_out: tuple[Locked, ...]
    stranded: tuple[str, ...]
    opened: tuple[tuple[str, tuple[str, ...]], ...]

    @property
    def against(self) -> str:
        """Why it is not recommended; "" if it is."""
        if any(kind == BREAK_GLASS for _, kind, _ in self.locked_out):
            return "it locks out a break-glass account"
        many = len({person for _, _, person in self.locked_out})
        return f"it locks out {many:,} privileged {'person' if many == 1 else 'people'}" if many else ""


@record
class Repair:
    """What ends a hole (of `rule`) or a lock-out of one account (id, kind) from some resources.

    `fewest` is the least number of edits, None where none up to MOST_EDITS do or it was not found out: then `because` says why.
    `plans` come best first: those that lock nobody out, then the fewest edits.
    """

    of: str
    rule: str
    hole: WayIn | None
    account: str
    kind: str
    resources: tuple[str, ...]
    fewest: int | None
    because: str
    plans: tuple[RulePlan, ...]


def sign_in_side(checker: Checker, asking: Asking, deadline: Deadline) -> Iterator[Repair]:
    """For each lock-out, break-glass accounts first, and for each hole of the rules that drift, what ends it."""
    if checker.snapshot.access_rules is None:
        return
    side = _Side(checker, asking, deadline)
    of_nothing = [rule for rule in checker.baseline.rules if rule.subject == "people" and not rule.of_services]
    if not of_nothing or any(asking.keeps(rule, None) for rule in of_nothing):
        yield from side.lock_outs()
    yield from side.holes()


class _Effect:
    """What edits do; each question is asked once."""

    def __init__(self, side: _Side, rules: tuple[AccessRule, ...]) -> None:
        self.keeper = side.keeper.with_rules(rules)
        self._side = side
        self._drifting: dict[str, Bools] = {}

    @cached_property
    def locked(self) -> tuple[frozenset[Locked], frozenset[tuple[str, int]]]:
        """Who is locked out, and who (numbers) is stranded at which resource."""
        found = lockouts(self.keeper)
        out = {(each.resource, each.of, person) for each in found.found for person in each.people}
        return frozenset(out), frozenset(
            (each.resource, one) for each in found.stranded for one in each.people.tolist()
        )

    @cached_property
    def _checker(self) -> Checker:
        before = self._side.checker
        made = Checker(self.keeper.snapshot, before.baseline, before.exceptions)
        made.__dict__["gatekeeper"] = self.keeper
        return made

    def drifting(self, rule: Rule) -> Bools:
        """Who drifts from a rule, on any service."""
        if rule.id not in self._drifting:
            self._drifting[rule.id] = drifting(self._checker, rule, self._side.asking)
        return self._drifting[rule.id]


def drifting(checker: Checker, rule: Rule, asking: Asking) -> Bools:
    """Who drifts from a rule on a service that is looked at (or on none, where the rule asks about none)."""
    services = (
        [each for each in checker.snapshot.services or () if rule.applies_to(each)] if rule.of_services else [None]
    )
    found = np.zeros(len(checker.snapshot.people), bool)
    for service in services:
        if asking.keeps(rule, None if service is None else service.id):
            found |= checker.judge(rule, service).verdict == DRIFTS
    return found & asking.chosen


class _Side:
    """One search for all holes and lock-outs of a snapshot."""

    def __init__(self, checker: Checker, asking: Asking, deadline: Deadline) -> None:
        self.checker, self.asking, self._deadline = checker, asking, deadline
        self.keeper = checker.gatekeeper
        self.terms = Terms(self.keeper)
        self._effects: dict[Edits, _Effect] = {}
        self._asking_proof = [
            rule
            for rule in checker.baseline.rules
            if rule.subject == "people" and any(leaf.about == "proof" for leaf in rule.leaves)
        ]

    def _after(self, edits: Edits) -> _Effect:
        if edits not in self._effects:
            rules = with_edits(self.keeper.rules, edits, self.checker.snapshot.resources)
            self._effects[edits] = _Effect(self, rules)
        return self._effects[edits]

    def _plan(self, edits: Edits, rule: Rule | None) -> RulePlan:
        now, then = self._after(NO_EDITS), self._after(edits)
        ids = self.checker.snapshot.people.ids
        stuck = np.array(sorted({one for _, one in then.locked[1] - now.locked[1]}), np.int64)
        opened = []
        for other in self._asking_proof if any(edit.kind == EXCUSE for edit in edits) else ():
            new = np.flatnonzero(then.drifting(other) & ~now.drifting(other))
            if len(new):
                opened.append((other.id, tuple(ids.take(new))))
        rules = then.keeper.rules
        return RulePlan(
            tuple(edit.said(rules) for edit in _in_order(edits)),
            tuple(rules[number] for number in sorted({edit.number for edit in edits})),
            rules,
            0 if rule is None else int(np.count_nonzero(now.drifting(rule))),
            0 if rule is None else int(np.count_nonzero(then.drifting(rule))),
            tuple(sorted(then.locked[0] - now.locked[0])),
            tuple(ids.take(stuck)),
            tuple(opened),
        )

    def lock_outs(self) -> Iterator[Repair]:
        """What ends each lock-out of an account, from the resources that the same edits open together."""
        people = self.checker.snapshot.people
        locked = self._after(NO_EDITS).locked[0]
        told = {(resource, person) for resource, kind, person in locked if kind == BREAK_GLASS}
        grouped: dict[tuple[bool, str, tuple[int, ...]], list[str]] = {}
        for resource, kind, name in sorted(locked):
            (person,) = people.ids.find(name)
            if self.asking.chosen[person] and (kind == BREAK_GLASS or (resource, name) not in told):
                ways = tuple(sorted(bars(self.keeper, person, resource)))
                grouped.setdefault((kind != BREAK_GLASS, name, ways), []).append(resource)
        for (not_break_glass, name, ways), resources in sorted(grouped.items()):
            kind = "privileged" if not_break_glass else BREAK_GLASS
            fewest, because, plans = self._letting_in(name, kind, resources, ways)
            yield Repair(LOCK_OUT, "", None, name, kind, tuple(resources), fewest, because, plans)

    def _letting_in(
        self, name: str, kind: str, resources: Sequence[str], ways: Sequence[int]
    ) -> tuple[int | None, str, tuple[RulePlan, ...]]:
        if not ways:
            why = "their partner's row lets no guests in (guests_in)"
            (person,) = self.checker.snapshot.people.ids.find(name)
            if self.keeper.unseen_device(person) is not None:
                why = "a second factor is asked of this account itself, and it has none: register one first"
            return None, why, ()
        few = sorted(way for way in ways if way.bit_count() <= MOST_EDITS)
        if not few:
            return None, _TOO_MANY, ()
        plans, opened = list[RulePlan](), set[str]()
        for way in sorted(few, key=lambda way: (way.bit_count(), way)):
            if plans and way.bit_count() > len(plans[0].edits):
                break
            if self._deadline.has_passed:
                return None, OUT_OF_TIME, ()
            edits = frozenset(
                RuleEdit(number, EXCUSE, Selector("id", (name,)))
                for number in range(len(self.keeper.rules))
                if way >> number & 1
            )
            if any((resource, kind, name) in self._after(edits).locked[0] for resource in resources):
                continue
            plan = self._plan(edits, None)
            if plan.opened and kind != BREAK_GLASS:
                opened.update(rule for rule, _ in plan.opened)
            else:
                plans.append(plan)
        if not plans:
            under = ", ".join(sorted(opened))
            return None, f"excluding them would open a hole under {under}: register what is asked for instead", ()
        plans.sort(key=lambda plan: (len(plan.edits), sum(len(people) for _, people in plan.opened), plan.edits))
        return len(plans[0].edits), "", tuple(plans)

    def holes(self) -> Iterator[Repair]:
        """What closes each hole."""
        for rule in self._asking_proof:
            audience = self._after(NO_EDITS).drifting(rule)
            if not np.any(audience):
                continue
            for leaf in rule.leaves:
                for hole in holes(self.keeper, leaf.asked, audience) if leaf.asked is not None else ():
                    assert leaf.asked is not None
                    fewest, because, plans = self._closing(rule, leaf.asked, hole)
                    yield Repair(HOLE, rule.id, hole, "", "", (), fewest, because, plans)

    def _closing(self, rule: Rule, asked: Asked, hole: WayIn) -> tuple[int | None, str, tuple[RulePlan, ...]]:
        """The least number of edits that close a hole, why there is none, and the plans."""
        closing = _Closing(self, asked, hole)
        plans: list[RulePlan] = []
        fewest, because = None, _TOO_MANY
        try:
            for size in range(1, MOST_EDITS + 1):
                found = list(closing.of_size(size, self._deadline))
                fewest = size if found and fewest is None else fewest
                for edits in found[:_MOST_WEIGHED]:
                    self._deadline.check()
                    plans.append(self._plan(edits, rule))
                if (
                    closing.hopeless
                    or (plans and closing.tried > _MOST_TRIED)
                    or any(not plan.against for plan in plans)
                ):
                    break
        except OutOfTime:
            because = OUT_OF_TIME
        if closing.hopeless:
            because = "no rule that denies or asks for it reaches these sign-ins by such an edit: write a rule"
        plans.sort(
            key=lambda plan: (
                plan.against != "",
                any(kind == BREAK_GLASS for _, kind, _ in plan.locked_out),
                len(plan.edits),
                len(plan.locked_out),
                len(plan.stranded),
                plan.drifting_then,
                plan.edits,
            )
        )
        return (fewest, "", tuple(plans)) if plans else (None, because, ())

    def slipping(self, edits: Edits, asked: Asked, hole: WayIn) -> tuple[int, SignIn] | None:
        """Who still slips through a hole, and how, before the rules with some edits; None if nobody does."""
        rules = with_edits(self.keeper.rules, edits, self.checker.snapshot.resources)
        return slipping(self.keeper.with_rules(rules), asked, hole)


class _Closing:
    """The plans that close one hole; `hopeless` once a sign-in was met that no edits cover."""

    def __init__(self, side: _Side, asked: Asked, hole: WayIn) -> None:
        self._side, self._asked, self._hole = side, asked, hole
        self._needs: list[frozenset[Edits]] = []
        self._tried = set[Edits]()
        self._found: list[Edits] = []
        self.hopeless = False

    @property
    def tried(self) -> int:
        """How many plans were tried."""
        return len(self._tried)

    def of_size(self, most: int, deadline: Deadline) -> Iterator[Edits]:
        """The plans of so many edits, none of which holds a smaller one; raises OutOfTime."""
        learning = True
        while learning and not self.hopeless:
            learning = False
            for edits in choices(self._needs, most, deadline):
                if edits in self._tried or any(found <= edits for found in self._found):
                    continue
                deadline.check()
                self._tried.add(edits)
                witness = self._side.slipping(edits, self._asked, self._hole)
                if witness is None:
                    self._found.append(edits)
                    yield edits
                    continue
                person, sign_in = witness
                needs = self._side.terms.covering(self._asked.proof, sign_in, person)
                self._needs.append(needs)
                self.hopeless, learning = not needs, True
                break


def choices(needs: Sequence[frozenset[Edits]], most: int, deadline: Deadline) -> Iterator[Edits]:
    """The choices of at most so many edits that hold one of the sets of each need."""
    seen = set[Edits]()
    ordered = [sorted(need, key=_text) for need in needs]

    def further(chosen: Edits) -> Iterator[Edits]:
        if chosen in seen:
            return
        seen.add(chosen)
        if not len(seen) % 1000:
            deadline.check()
        unmet = (need for need in ordered if not any(one <= chosen for one in need))
        need = min(unmet, key=len, default=None)
        if need is None:
            yield chosen
            return
        for one in need:
            if len(chosen | one) <= most:
                yield from further(chosen | one)

    return further(NO_EDITS)


def _in_order(edits: Iterable[RuleEdit]) -> list[RuleEdit]:
    return sorted(edits, key=lambda edit: (edit.number, edit.kind, str(edit.what)))


def _text(edits: Edits) -> tuple[tuple[int, str, str], ...]:
    return tuple((edit.number, edit.kind, str(edit.what)) for edit in _in_order(edits))
