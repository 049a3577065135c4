"""What may stand where in the programme of a component: a variable for each option at each place, and what counts of all that stands.

Source: changes, section 3; readings 34 and 35."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ..settings.edited import Given, Spot
from .deadline import NEVER_PASSES, Deadline
from .judging import Judging
from .offers import Offers
from .rows import ONE, Programme, Term, negated, total, value_of
from .terms import Plan, text_of
from .walks import Alike, Item, Key, Walks

NEVER = 10**9
_FEW_VALUES = 24  # of a control, all of them are offered everywhere


class Standing:
    """The places of a component, and what may be done at each."""

    def __init__(self, judging: Judging, offers: Offers, deadline: Deadline = NEVER_PASSES) -> None:
        self.judging, self.offers, self.deadline = judging, offers, deadline
        self.programme = Programme()
        self.walks = Walks(judging, offers, {control: self._values(control) for control in judging.controls})
        self.offered: dict[Key, dict[Given, Term]] = {}

    def _values(self, control: str) -> Sequence[str]:
        """The values offered: all of them, or where there are many those of who has something to mend, and those that rules lead to."""
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

    def options(self, key: Key) -> dict[Given, Term]:
        """For each thing that may be done at a place, whether it is."""
        if key not in self.offered:
            made = {given: self.programme.variable() for given in self.walks.options[key]}
            self.offered[key] = made
            if len(made) > 1:
                self.programme.at_least(negated(total(made.values())), 0)
        return self.offered[key]

    def stands(self, item: Item) -> Term:
        """Whether an item stands."""
        if item.place is None:
            return ONE
        options = self.options(item.place)
        return negated(total(options.values())) if item.given is None else options[item.given]

    def _accept(self, alike: Alike, control: str, good: Sequence[bool], term: Term, worst: bool = False) -> None:
        """Where `term` is 1, what counts of a control is a good item. With `worst` a bad one of the same standing counts more (a set)."""
        items = alike.items[control]
        for item, fine in zip(items, good, strict=True):
            if fine:
                continue
            better = [
                self.stands(other)
                for other, also in zip(items, good, strict=True)
                if also
                and (item.place is None or other.place != item.place)
                and (other.standing > item.standing if worst else other.strength > item.strength)
            ]
            self.programme.at_least(total([*better, self.stands(item).times(-1), term.times(-1)]), -1)

    def _value_now(self, alike: Alike, control: str) -> str | None:
        judging = self.judging
        if alike.subject == "meetings":
            assert judging.planned is not None
            return judging.planned.value(control, alike.meeting)[0]
        effective = judging.base.resolver.effective(judging.service, control)
        return effective.values[int(effective.places[alike.person])]

    def _value_of(self, alike: Alike, control: str) -> str | None:
        if control in alike.fixed:
            return alike.fixed[control]
        effective = self.judging.base.resolver.effective(self.judging.service, control)
        if effective.licence_of(alike.person) in ("unavailable", "unknown"):
            return None
        return effective.values[int(effective.places[alike.person])]

    # costs

    def edits(self) -> Term:
        """How many edits are made."""
        return self._edits_that(lambda _: True)

    def reach(self) -> Term:
        """How many people the places of the edits have."""
        found = []
        for key, options in self.offered.items():
            spots = self.walks.spots[key]
            many = self.judging.reach({spot: Given(None) for spot in spots})
            found += [term.times(many) for term in options.values()]
        return total(found)

    def stricter(self) -> Term:
        """By how many steps the edits are stricter than the weakest values that may be set."""
        found = []
        for key, options in self.offered.items():
            many = len(self.walks.spots[key])
            found += [term.times(many * self.offers.steps(key[0], given.value)) for given, term in options.items()]
        return total(found)

    def sets(self) -> Term:
        """How many edits set something."""
        return self._edits_that(lambda given: given.value is not None)

    def pins(self) -> Term:
        """How many edits pin something."""
        return self._edits_that(lambda given: given.pinned)

    def _edits_that(self, wanted: Callable[[Given], bool]) -> Term:
        found = []
        for key, options in self.offered.items():
            many = len(self.walks.spots[key])
            found += [term.times(many) for given, term in options.items() if wanted(given)]
        return total(found)

    def texts(self) -> Term:
        """Where the edits stand among all that may be made, by their texts; summed."""
        every = sorted(
            (text_of(self.walks.spots[key][0], given), key, given)
            for key, options in self.offered.items()
            for given in options
        )
        return total(self.offered[key][given].times(place) for place, (_, key, given) in enumerate(every))

    def text_places(self, plan: Plan) -> int:
        """The same of a plan; a number that no plan has for one with edits that are not offered."""
        found = {
            (spot, given): text_of(self.walks.spots[key][0], given)
            for key, options in self.offered.items()
            for spot in self.walks.spots[key]
            for given in options
        }
        order = {text: place for place, text in enumerate(sorted(set(found.values())))}
        return sum({order[found[edit]] for edit in plan.items() if edit in found}) + NEVER * any(
            edit not in found for edit in plan.items()
        )

    def plan(self, values: np.ndarray) -> Plan:
        """The edits that are made."""
        found: dict[Spot, Given] = {}
        for key, options in self.offered.items():
            for given, term in options.items():
                if value_of(term, values) > 0.5:
                    found |= dict.fromkeys(self.walks.spots[key], given)
        return found
