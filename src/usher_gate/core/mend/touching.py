"""What a plan costs in people: whose value of a control becomes another, as terms of the program.

Everyone counts, also who needs no mending: they are folded by what of the places in the program covers them, and by
the strongest setting of all others that does.

Spec: mending 4.1.
"""

from __future__ import annotations

import numpy as np

from ..organisation.columns import Bools, Longs
from ..organisation.settings import MEETING, ORGANISATION, PERSON
from ..settings.effective import Effective
from .integer_program import NOTHING, Term, total
from .model import Model
from .walks import Item, PlaceKey

MOST_FOLDS = 20_000


class TooManyPeople(Exception):
    """More different people than can be counted in a program."""


class Touching:
    """Describes what the program's plans cost in people; made anew when the program has other places or people."""

    def __init__(self, model: Model) -> None:
        self._model = model
        self._made: tuple[tuple[int, int], Term, Term] | None = None

    def without(self) -> Term:
        """Return how many (person, control) have another value without need."""
        return self._terms()[0]

    def every(self) -> Term:
        """Return how many (person, control) have another value."""
        return self._terms()[1]

    def _terms(self) -> tuple[Term, Term]:
        size = len(self._model.offered), len(self._model.walks.alike)
        if self._made is None or self._made[0] != size:
            self._made = size, *_touching(self._model)
        return self._made[1:]


def _touching(model: Model) -> tuple[Term, Term]:
    without, every = [], []
    for control in model.judging.controls:
        keys = [key for key in model.offered if key[0] == control and key[1] != MEETING]
        if not keys and not any(key[0] == control for key in model.offered):
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
    names = {str(key[2]) for key in model.offered if key[0] == control and key[1] == MEETING}
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
        is_there = model.is_there(item)
        if item.value == value or not (is_there.of or is_there.constant):
            continue
        same = [
            model.is_there(other)
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
    # People with equal rows are interchangeable: one fold stands for all of them.
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
