"""The variables of a component's integer program: one for each candidate edit at each place, and which item counts.

Spec: mending 4.2."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..settings.edited import NewValue, SettingTarget
from .candidates import CandidateEdits
from .constraints import Plan
from .integer_program import ONE, IntegerProgram, Term, negated, total, value_of
from .judging import Judging
from .walks import EquivalenceClass, Item, PlaceKey, Walks

_FEW_VALUES = 24  # of a control, all of them are offered everywhere


class DecisionVariables:
    """The places of a component, and what may be done at each."""

    def __init__(self, judging: Judging, offers: CandidateEdits) -> None:
        self.judging, self.offers = judging, offers
        self.program = IntegerProgram()
        self.walks = Walks(judging, offers, {control: self._values(control) for control in judging.controls})
        self.offered: dict[PlaceKey, dict[NewValue, Term]] = {}

    def _values(self, control: str) -> Sequence[str]:
        """Return the values offered.

        All of them, or where there are many those of people who has something to mend, and those that rules lead to.
        """
        every = self.offers.values(control)
        if len(every) <= _FEW_VALUES:
            return every
        judging = self.judging
        effective = judging.base.resolver.effective(judging.service, control)
        people = np.flatnonzero(judging.people_to_mend())
        used, counts = np.unique(effective.places[people], return_counts=True)
        common = [effective.values[place] for place in used[np.argsort(-counts, kind="stable")][:_FEW_VALUES].tolist()]
        kept = self.offers.canonical(control) | {value for value in common if value is not None}
        return tuple(value for value in every if value in kept)

    def options(self, key: PlaceKey) -> dict[NewValue, Term]:
        """Return the 0/1 variable of each candidate edit at a place."""
        if key not in self.offered:
            made = {given: self.program.variable() for given in self.walks.options[key]}
            self.offered[key] = made
            if len(made) > 1:
                self.program.at_least(negated(total(made.values())), 0)
        return self.offered[key]

    def is_there(self, item: Item) -> Term:
        """Return the 0/1 term that says whether an item is there."""
        if item.place is None:
            return ONE
        options = self.options(item.place)
        return negated(total(options.values())) if item.given is None else options[item.given]

    def accept(
        self, alike: EquivalenceClass, control: str, good: Sequence[bool], term: Term, worst: bool = False
    ) -> None:
        """Add the constraint that the effective item of a control is a good one wherever `term` is 1.

        With `worst` a bad one of the same standing counts more (a set).
        """
        items = alike.items[control]
        for item, fine in zip(items, good, strict=True):
            if fine:
                continue
            better = [
                self.is_there(other)
                for other, also in zip(items, good, strict=True)
                if also
                and (item.place is None or other.place != item.place)
                and (other.standing > item.standing if worst else other.strength > item.strength)
            ]
            self.program.at_least(total([*better, self.is_there(item).times(-1), term.times(-1)]), -1)

    def value_now(self, alike: EquivalenceClass, control: str) -> str | None:
        """Return the effective value of a control as things are."""
        judging = self.judging
        if alike.subject == "meetings":
            assert judging.planned is not None
            return judging.planned.value(control, alike.meeting)[0]
        effective = judging.base.resolver.effective(judging.service, control)
        return effective.values[int(effective.places[alike.person])]

    def licensed_value(self, alike: EquivalenceClass, control: str) -> str | None:
        """Return the same for people, if they have the licence; None if it is not known."""
        if control in alike.fixed:
            return alike.fixed[control]
        effective = self.judging.base.resolver.effective(self.judging.service, control)
        if effective.licence_of(alike.person) in ("unavailable", "unknown"):
            return None
        return effective.values[int(effective.places[alike.person])]

    def plan(self, values: np.ndarray) -> Plan:
        """Return the edits that are made."""
        found: dict[SettingTarget, NewValue] = {}
        for key, options in self.offered.items():
            for given, term in options.items():
                if value_of(term, values) > 0.5:
                    found |= dict.fromkeys(self.walks.edit_targets[key], given)
        return found
