"""The objective of a component: what makes one plan better than another, as terms of its program.

For the values that change everyone counts, also people who need no mending: they are folded by the places of the
program that cover them, and by the strongest setting of all others that does.

Spec: mending 4.1.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..organisation.columns import Bools, Longs
from ..organisation.settings import MEETING, ORGANISATION, PERSON
from ..settings.edited import NewValue
from ..settings.effective import Effective
from ..words.record import record
from .constraints import Plan, last_key, text_of
from .integer_program import NOTHING, Term, total
from .judging import PlanScore
from .model import Model
from .walks import Item, PlaceKey

MOST_FOLDS = 20_000
FIRST = 10_000  # so many edits are better than one finding more that is left
NEVER = 10**9


class TooManyPeople(Exception):
    """More different people than can be counted in a program."""


@record
class Goal:
    """A cost to be made least: as a term of the program, and as it is counted of a plan."""

    cost: Callable[[], Term]
    of: Callable[[PlanScore], int]


class Objective:
    """What makes one plan of a component better than another, as goals in the order in which they count."""

    def __init__(self, model: Model) -> None:
        self._model, self._variables = model, model.variables
        self._touched: tuple[tuple[int, int], Term, Term] | None = None

    @property
    def first(self) -> Goal:
        """Return the goal that few findings are left, then few edits made."""
        return Goal(
            lambda: total([self._model.left().times(FIRST), self.edits()]),
            lambda weighed: FIRST * weighed.left + len(weighed.plan),
        )

    @property
    def others(self) -> tuple[Goal, ...]:
        """Return the goals among plans that are equally good by the first; the first two are about other people."""
        return (
            Goal(lambda: self._touching(1), lambda weighed: weighed.without),
            Goal(lambda: self._touching(2), lambda weighed: weighed.touched),
            Goal(self._stricter, lambda weighed: self._variables.offers.strictness_of(weighed.plan)),
            Goal(self._reach, lambda weighed: weighed.reach),
            Goal(lambda: self._edits_that(lambda given: given.value is not None), lambda one: last_key(one.plan)[0]),
            Goal(lambda: self._edits_that(lambda given: given.pinned), lambda weighed: last_key(weighed.plan)[1]),
            Goal(self._texts, lambda weighed: self._text_places(weighed.plan)),
        )

    def _touching(self, which: int) -> Term:
        """Return how many values of people change: of those with nothing to mend there (1), or of all (2)."""
        size = len(self._variables.offered), len(self._model.walks.alike)
        if self._touched is None or self._touched[0] != size:
            self._touched = size, *_touching(self._model)
        return self._touched[which]  # type: ignore[return-value]

    def edits(self) -> Term:
        """Return how many edits are made."""
        return self._edits_that(lambda _: True)

    def _reach(self) -> Term:
        """Return how many people the places of the edits have."""
        found = []
        for key, options in self._variables.offered.items():
            edit_targets = self._variables.walks.edit_targets[key]
            many = self._variables.judging.reach({edit_target: NewValue(None) for edit_target in edit_targets})
            found += [term.times(many) for term in options.values()]
        return total(found)

    def _stricter(self) -> Term:
        """Return by how many steps the edits are stricter than the weakest values that may be set."""
        found = []
        for key, options in self._variables.offered.items():
            many = len(self._variables.walks.edit_targets[key])
            found += [
                term.times(many * self._variables.offers.steps(key[0], given.value)) for given, term in options.items()
            ]
        return total(found)

    def _edits_that(self, wanted: Callable[[NewValue], bool]) -> Term:
        found = []
        for key, options in self._variables.offered.items():
            many = len(self._variables.walks.edit_targets[key])
            found += [term.times(many) for given, term in options.items() if wanted(given)]
        return total(found)

    def _texts(self) -> Term:
        """Return where the edits stand among all that may be made, by their texts; summed."""
        every = sorted(
            (text_of(self._variables.walks.edit_targets[key][0], given), key, given)
            for key, options in self._variables.offered.items()
            for given in options
        )
        return total(self._variables.offered[key][given].times(place) for place, (_, key, given) in enumerate(every))

    def _text_places(self, plan: Plan) -> int:
        """Return the same of a plan; a number that no plan has for one with edits that are not offered."""
        found = {
            (edit_target, given): text_of(self._variables.walks.edit_targets[key][0], given)
            for key, options in self._variables.offered.items()
            for edit_target in self._variables.walks.edit_targets[key]
            for given in options
        }
        order = {text: place for place, text in enumerate(sorted(set(found.values())))}
        return sum({order[found[edit]] for edit in plan.items() if edit in found}) + NEVER * any(
            edit not in found for edit in plan.items()
        )


def _touching(model: Model) -> tuple[Term, Term]:
    without, every = [], []
    for control in model.judging.controls:
        keys = [key for key in model.variables.offered if key[0] == control and key[1] != MEETING]
        if not keys and not any(key[0] == control for key in model.variables.offered):
            continue
        for term, need, other in _of_control(model, control, keys):
            every.append(term.times(need + other))
            without.append(term.times(other))
    return total(without), total(every)


def _of_control(model: Model, control: str, keys: list[PlaceKey]) -> list[tuple[Term, int, int]]:
    """Return for each fold of people a term that is 1 where their value is another, and how many of them have something
    to mend and have not.
    """
    judging = model.judging
    effective = judging.base.resolver.effective(judging.service, control)
    there, need = judging.there[control].copy(), judging.need[control]
    if effective.lacking is not None:  # what they have for want of a licence no setting changes
        there &= ~effective.lacking
    found: list[tuple[Term, int, int]] = []
    own = {person for key in keys if key[1] == PERSON for person in _alike_people(model, key)}
    meetings = _organisers(model, control)
    apart = np.zeros(judging.size, bool)
    apart[list(own | set(meetings))] = True
    for alike in model.walks.alike:
        if alike.subject == "people" and control in alike.items and apart[alike.person]:
            mine = np.count_nonzero(there[alike.people])
            if mine:
                items = alike.items[control]
                parts = [_other(model, items, effective.values[int(effective.places[alike.person])])]
                parts += [_meeting_other(model, control, number) for number in meetings.get(alike.person, ())]
                found.append((_any(model, parts), *_count(need, alike.people[there[alike.people]])))
            there[alike.people] = False
    found += _folds(model, control, [key for key in keys if key[1] != PERSON], effective, there)
    return found


def _count(need: Bools, people: Longs) -> tuple[int, int]:
    mine = int(np.count_nonzero(need[people]))
    return mine, len(people) - mine


def _alike_people(model: Model, key: PlaceKey) -> list[int]:
    return [edit_target.target for edit_target in model.walks.edit_targets[key]]


def _organisers(model: Model, control: str) -> dict[int, list[int]]:
    """Return the meetings at which an edit of a control may be, by organiser."""
    planned = model.judging.planned
    names = {str(key[2]) for key in model.variables.offered if key[0] == control and key[1] == MEETING}
    found: dict[int, list[int]] = {}
    if planned is not None:
        for number, name in enumerate(planned.ids):
            if name in names:
                found.setdefault(int(planned.organiser[number]), []).append(number)
    return found


def _meeting_other(model: Model, control: str, number: int) -> Term:
    alike = model.walks.of_meeting[number]
    if control not in alike.items:
        return NOTHING
    assert model.judging.planned is not None
    return _other(model, alike.items[control], model.judging.planned.value(control, number)[0])


def _any(model: Model, parts: list[Term]) -> Term:
    """Return a term that is 1 where one of the parts is."""
    parts = [part for part in parts if part.of or part.constant]
    if len(parts) < 2:
        return parts[0] if parts else NOTHING
    together = model.program.variable(whole=False)
    for part in parts:
        model.program.at_least(total([together, part.times(-1)]), 0)
    return together


def _other(model: Model, items: list[Item], value: str | None) -> Term:
    """Return a term that is 1 where what counts of some items has another value."""
    term: Term | None = None
    for item in items:
        is_there = model.variables.is_there(item)
        if item.value == value or not (is_there.of or is_there.constant):
            continue
        same = [
            model.variables.is_there(other)
            for other in items
            if other.value == value
            and other.strength > item.strength
            and (item.place is None or other.place != item.place)
        ]
        if any(not each.of and each.constant >= 1 for each in same):
            continue
        if term is None:
            term = model.program.variable(whole=False)
        model.program.at_least(total([term, is_there.times(-1), *same]), 0)
    return term if term is not None else NOTHING


def _folds(
    model: Model, control: str, keys: list[PlaceKey], effective: Effective, there: Bools
) -> list[tuple[Term, int, int]]:
    """Return everyone else, folded by the places of the program that cover them and by the strongest other setting."""
    judging, walks = model.judging, model.walks
    if not keys or not np.any(there):
        return []
    edit_targets = [(key, walks.edit_targets[key][0]) for key in keys]
    inside = {(edit_target.kind, edit_target.target) for _, edit_target in edit_targets}
    # The value that each person would have without the settings that the program decides.
    order = [
        place
        for place in range(1, len(effective))
        if (int(effective.kinds[place]), int(effective.targets[place])) not in inside
    ]
    rest = effective.apply_in_order(order)
    table: dict[tuple[object, ...], int] = {}
    seen = np.array(
        [table.setdefault(_sort(effective, place), len(table)) for place in range(len(effective))], np.int64
    )
    values = np.array([judging.code(control, value) for value in effective.values], np.int64)
    columns: list[Longs] = [seen[rest], judging.need[control].astype(np.int64), values[effective.places]]
    # Which places of the program cover each person, one bit a place.
    bits = np.zeros((len(edit_targets), judging.size), bool)
    for row, (_, edit_target) in enumerate(edit_targets):
        if edit_target.kind == ORGANISATION:
            bits[row] = True
        else:
            bits[row, judging.members(edit_target.kind, edit_target.target)] = True
    packed = np.packbits(bits, axis=0).astype(np.int64)
    # People with equal rows are interchangeable: one fold represents all of them.
    people = np.flatnonzero(there)
    matrix = np.stack([*(column[people] for column in columns), *(row[people] for row in packed)], axis=1)
    _, first, which = np.unique(matrix, axis=0, return_index=True, return_inverse=True)
    if len(first) > MOST_FOLDS:
        raise TooManyPeople
    counts = np.bincount(which.reshape(-1))
    found = []
    for number, row in enumerate(first.tolist()):
        person = int(people[row])
        items = [walks._at(control, effective, int(rest[person]), None)]
        for (key, edit_target), mine in zip(edit_targets, bits[:, person].tolist(), strict=True):
            if mine:
                place = walks._known(control, effective).get((edit_target.kind, edit_target.target))
                items += walks._offered(control, effective, key, place, None, edit_target)
        term = _other(model, items, effective.values[int(effective.places[person])])
        if term.of:
            many = int(counts[number])
            needs = bool(judging.need[control][person])
            found.append((term, many if needs else 0, 0 if needs else many))
    return found


def _sort(effective: Effective, place: int) -> tuple[object, ...]:
    """Return what of a setting decides whether another one beats it, and what it gives."""
    return (
        effective.values[place],
        bool(effective.pinned[place]),
        int(effective.steps[place]),
        int(effective.ranks[place]),
    )
