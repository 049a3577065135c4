"""A component as a whole-number program: who is in it, and what must hold for each of them.

Rows are added when a plan breaks them, so that only subjects that matter are in the program: it always allows every
plan that is right, and what it says of a plan is held against judging again.

Spec: mending 1 to 4.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ..verdicts.codes import DRIFTS, EXEMPT, MEETS, SETTLING
from ..verdicts.rules import Rule
from .candidates import CandidateEdits
from .deadline import NEVER_PASSES, Deadline
from .integer_program import ONE, Term, negated, total
from .judging import Judging
from .trees import Trees
from .variables import DecisionVariables
from .walks import EquivalenceClass


@dataclass(eq=False)
class Open:
    """Subjects whose verdict of a rule may be left as it is: `term` is 1 where it is."""

    alike: EquivalenceClass
    rule: Rule
    term: Term


class Model:
    """The program of one component: its variables, and the constraints of those who are in it."""

    def __init__(self, judging: Judging, offers: CandidateEdits, deadline: Deadline = NEVER_PASSES) -> None:
        self.judging, self.offers, self._deadline = judging, offers, deadline
        self.variables = DecisionVariables(judging, offers)
        self.program, self.walks = self.variables.program, self.variables.walks
        self.rules = Trees(self.variables)
        self.open: dict[tuple[int, str], Open] = {}
        self._trees = {rule.id: rule.tree_on(judging.service) for rule in judging.rules}
        for rule, mask in judging.subjects():
            chosen = np.flatnonzero(mask).tolist()
            if rule.subject == "people":
                self.include_people(chosen)
            elif rule.subject == "meetings":
                for number in chosen:
                    self.include_meeting(number)
            else:
                self.include_organisation()

    def left(self) -> Term:
        """Return how many verdicts are left."""
        return total(each.term.times(each.alike.many) for each in self.open.values())

    # who is in

    def include_people(self, people: Iterable[int]) -> bool:
        """Puts people in; says whether someone is new. Raises OutOfTime, as whatever else puts subjects in."""
        fresh = self.walks.add_people(people, self._deadline)
        for alike in fresh:
            self._deadline.check()
            self._must_hold(alike)
        return bool(fresh)

    def include_meeting(self, number: int) -> bool:
        """Puts a planned meeting in, and its organiser."""
        if number in self.walks.of_meeting:
            return False
        assert self.judging.planned is not None
        self.include_people([int(self.judging.planned.organiser[number])])
        self._must_hold(self.walks.add_meeting(number))
        return True

    def include_organisation(self) -> bool:
        """Puts the organisation in."""
        if self.walks.organisation is not None:
            return False
        self._must_hold(self.walks.add_organisation())
        return True

    # what must hold

    def _place_of(self, alike: EquivalenceClass) -> int:
        """Return the index of a subject among those of its rules."""
        return {"people": alike.person, "meetings": alike.meeting, "organisation": 0}[alike.subject]

    def _must_hold(self, alike: EquivalenceClass) -> None:
        """Add the constraints of one equivalence class: findings end or are counted, nothing worsens, frozen values
        stay.
        """
        judging, terms = self.judging, self.judging.terms
        at = self._place_of(alike)
        for rule in judging.rules:
            if rule.subject != alike.subject:
                continue
            now = judging.now[rule.id]
            tree = self._trees[rule.id]
            if tree is None or at >= len(now.verdict) or now.verdict[at] == EXEMPT or not self._answered(rule):
                continue
            would_be = int(now.would_be[at])
            if bool(judging.to_mend(rule)[at]):
                term = self.program.variable()
                self.open[alike.name, rule.id] = Open(alike, rule, term)
                self.rules.require(alike, rule, tree, MEETS if terms.hold else SETTLING, negated(term), True)
            if would_be > DRIFTS:
                self.rules.require(alike, rule, tree, min(would_be, MEETS), ONE, False)
        if alike.subject == "organisation":
            return
        for control in judging.controls:
            if control in alike.fixed:
                continue
            items = alike.items[control]
            value = self.variables.value_now(alike, control)
            frozen = judging.frozen[control] if alike.subject == "people" else judging.frozen_meetings[control]
            if frozen[at]:
                self.variables.accept(alike, control, [item.value == value for item in items], ONE)
            there = judging.there[control][alike.person]
            if not terms.weaken and value is not None and there and not judging.need[control][alike.person]:
                strict = self.judging.base.snapshot.catalogue.index[control].kind.strictness
                known = [item.value is not None and strict(item.value) >= strict(value) for item in items]
                self.variables.accept(alike, control, known, ONE)
        if alike.subject == "people":
            self._no_contradiction(alike)

    def _answered(self, rule: Rule) -> bool:
        """Return whether it is known which people a rule is about; if not, no setting changes what it says."""
        return rule.subject == "organisation" or self.judging.base.scopes.of(rule, self.judging.service).answered

    def _no_contradiction(self, alike: EquivalenceClass) -> None:
        """Add the constraints that keep two contradictory values apart for one equivalence class of people."""
        service, catalogue = self.judging.service, self.judging.base.snapshot.catalogue
        for contradiction in catalogue.contradictions:
            sides = (contradiction.first, contradiction.second)
            if not {sides[0][0], sides[1][0]} <= service.controls:
                continue
            if not self.judging.base.resolver.accounts(service)[alike.person]:
                continue
            if all(self.variables.licensed_value(alike, control) in values for control, values in sides):
                continue
            apart = []
            for control, values in sides:
                if control in alike.items and control in self.judging.controls:
                    term = self.program.variable()
                    self.variables.accept(
                        alike, control, [item.value not in values for item in alike.items[control]], term
                    )
                    apart.append(term)
                elif self.variables.licensed_value(alike, control) not in values:
                    apart.append(ONE)
            self.program.at_least(total(apart), 1)
