"""Effective values: what each person really gets for one control on one service, and the setting that causes it.

All settings of a service and control are sorted once by strength, weakest first: not pinned before pinned; among those not
pinned the widest step first, among pinned ones the narrowest; at one step by the order that names its winner. Painting the
people each setting covers in that order leaves, for every person, the place of the setting that causes the value.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from .model import (
    GROUP,
    LEVELS,
    MEETING,
    MISSING,
    NO_RANK,
    NO_TIME,
    ORGANISATION,
    PERSON,
    UNIT,
    Bools,
    Ints,
    Longs,
    Service,
    Snapshot,
    depth,
)
from .record import record
from .select import Unanswerable, select

EVERYBODY = -2  # the target of a stand-in for a level whose data is missing
LICENCE = 5  # the kind of the value that `without` gives
_DEEPEST = 1 << 20
_Cell = TypeVar("_Cell", np.int32, np.int64, np.bool_)


@record
class Cause:
    """Where an effective value comes from: a setting (`row` is its row in the settings table), `factory` or `licence`.

    `scope` None says that the value is unknown for want of any source.
    """

    scope: str | None
    value: str | None
    pinned: bool = False
    changed: int = NO_TIME
    row: int = MISSING


class Effective:
    """The effective values of one control on one service, for all active people.

    `places[p]` is the place of person p's cause; the properties of a place stand in arrays of the same order:
    place 0 is the factory value (or unknown), the rest are settings by growing strength.
    """

    def __init__(self, resolver: Resolver, service: Service, control: str) -> None:
        self.service, self.control = service, control
        self._snapshot = resolver.snapshot
        self.lacking = resolver.lacking(service, control)
        need = service.needs.get(control)
        without = need.without if need is not None and self.lacking is not None else None
        last = 0 if without is None else 1  # the value for want of a licence is the strongest place
        rows = resolver.rows(service.id, control)
        factory = service.factory.get(control) if resolver.snapshot.settings is not None else None
        self._values: list[str | None] = [factory, *resolver.values(rows), *([without] * last)]
        self._scopes: list[str | None] = ["factory" if factory is not None else None, *resolver.scopes(rows)]
        self._scopes += ["licence"] * last
        self.kinds = np.concatenate(([MISSING], resolver.kind[rows], [LICENCE] * last)).astype(np.int32)
        self.targets = np.concatenate(([MISSING], resolver.target[rows], [MISSING] * last)).astype(np.int32)
        self.pinned = np.concatenate(([False], resolver.pinned[rows], [True] * last)).astype(bool)
        self.changed = np.concatenate(([NO_TIME], resolver.changed[rows], [NO_TIME] * last)).astype(np.int64)
        self.rows = np.concatenate(([MISSING], resolver.row[rows], [MISSING] * last)).astype(np.int32)
        self.steps = np.concatenate(([MISSING], resolver.step[rows], [_DEEPEST * len(LEVELS)] * last)).astype(np.int64)
        self.young: Bools = (self.changed != NO_TIME) & (resolver.snapshot.taken_at - self.changed < service.settle)
        ranks: list[Longs] = [np.full(1, NO_RANK, np.int64), resolver.rank[rows], np.full(last, NO_RANK, np.int64)]
        self.ranks: Longs = np.concatenate(ranks)

    def __len__(self) -> int:
        return len(self._values)

    @property
    def values(self) -> list[str | None]:
        """The canonical text of the value at each place; None where it is unknown."""
        return self._values

    def value(self, place: int) -> str | None:
        """The value at one place."""
        return self._values[place]

    def cause(self, place: int) -> Cause:
        """Where the value at a place comes from."""
        value = self._values[place]
        return Cause(
            self._scopes[place] if value is not None else None,
            value,
            bool(self.pinned[place]),
            int(self.changed[place]),
            int(self.rows[place]),
        )

    @property
    def unlicensed(self) -> bool:
        """Whether people without the licence have no value at all (as against the one that `without` gives)."""
        need = self.service.needs.get(self.control)
        return need is not None and need.without is None

    @property
    def licence_unknown(self) -> bool:
        """Whether a licence is needed and the snapshot does not tell who has which."""
        return self.control in self.service.needs and self.lacking is None

    @cached_property
    def places(self) -> Ints:
        """For each active person the place of the cause (int32)."""
        return self._paint(range(1, len(self)))

    @cached_property
    def classes(self) -> NDArray[np.int64]:
        """Numbers the places so that those of one standing at the group step share a number; all others have their own."""
        same = (
            (self.kinds[1:] == GROUP)
            & (self.kinds[:-1] == GROUP)
            & (self.pinned[1:] == self.pinned[:-1])
            & (self.steps[1:] == self.steps[:-1])
            & (self.ranks[1:] == self.ranks[:-1])
        )
        return np.concatenate(([0], np.cumsum(~same)))

    @cached_property
    def contestable(self) -> bool:
        """Whether settings of one standing have different values, so that a person's value may be contested."""
        pairs = {(number, value) for number, value in zip(self.classes.tolist(), self._values, strict=True)}
        return len(pairs) > int(self.classes[-1]) + 1

    def worst_places(self, goodness: NDArray[np.uint8]) -> Ints:
        """As `places`, but of settings of one standing the one of least goodness (one number a place) stands."""
        order = np.lexsort((np.arange(len(self)), -goodness.astype(np.int64), self.classes))
        return self._paint(order[order > 0].tolist())

    def rivals(self, person: int, place: int) -> list[int]:
        """The places of a person's settings that have the standing of the one at `place`, strongest first, itself included."""
        if self.kinds[place] != GROUP or self._snapshot.groups is None:
            return [place]
        mine = self._snapshot.groups.of_person.of(person)
        alike = np.flatnonzero((self.classes == self.classes[place]) & np.isin(self.targets, mine))
        return [int(each) for each in alike[::-1]]

    def covering(self, person: int) -> list[int]:
        """The places of all settings that cover a person, by growing strength."""
        found = []
        for place in range(1, len(self)):
            if np.any(self._members(place) == person):
                found.append(place)
        return found

    def _members(self, place: int) -> Ints:
        kind, target = int(self.kinds[place]), int(self.targets[place])
        if kind == ORGANISATION or target == EVERYBODY:
            return np.arange(len(self._snapshot.people), dtype=np.int32)
        if kind == LICENCE:
            assert self.lacking is not None
            return np.flatnonzero(self.lacking).astype(np.int32)
        if target == MISSING:
            return np.empty(0, np.int32)
        if kind == UNIT and self._snapshot.units is not None:
            return self._snapshot.units.members(target)
        if kind == GROUP and self._snapshot.groups is not None:
            return self._snapshot.groups.people.of(target)
        return np.array([target] if kind == PERSON else [], np.int32)

    def _paint(self, order: Sequence[int]) -> Ints:
        places = np.zeros(len(self._snapshot.people), np.int32)
        kinds, targets = self.kinds.tolist(), self.targets.tolist()
        persons: list[int] = []
        for place in order:
            if kinds[place] == PERSON and targets[place] >= 0:
                persons.append(place)  # no two of them cover one person: they are painted as one
                continue
            if persons:
                places[self.targets[persons]] = persons
                persons = []
            if kinds[place] == ORGANISATION or targets[place] == EVERYBODY:
                places[:] = place
            else:
                places[self._members(place)] = place
        if persons:
            places[self.targets[persons]] = persons
        return places


class Resolver:
    """All settings of a snapshot in order of strength, and the effective values made from them."""

    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self._services: Mapping[str, int] = {each.id: number for number, each in enumerate(snapshot.services or ())}
        self._lacking: dict[tuple[str, frozenset[str]], Bools] = {}
        self._sort()

    def _sort(self) -> None:
        settings, services = self.snapshot.settings, self.snapshot.services or ()
        if settings is None or not services:
            empty = np.empty(0, np.int64)
            self.kind = self.target = self.row = self._value = self._scope = empty.astype(np.int32)
            self.pinned, self.changed, self.step, self.rank = empty.astype(bool), empty, empty, empty
            self._keys, self.left_out = empty, {}
            return
        level = np.full((len(services), MEETING + 1), MISSING, np.int64)
        for number, service in enumerate(services):
            for place, name in enumerate(service.precedence):
                level[number, LEVELS.index(name)] = place
        columns = _Rows.of(self.snapshot, level)
        placed = level[columns.service, columns.kind]
        self.left_out = self._count_left_out(columns, placed)
        kept = np.flatnonzero(placed >= 0)
        depths = np.zeros(len(columns.service), np.int64)
        if self.snapshot.units is not None and self.snapshot.units.paths:
            of_unit = np.array([*(depth(path) for path in self.snapshot.units.paths), 0], np.int64)
            in_unit = (columns.kind == UNIT) & (columns.target >= 0)
            depths[in_unit] = of_unit[columns.target[in_unit]]
        step = placed * _DEEPEST + depths
        strength = np.where(columns.pinned, -step, step)
        value_order = self._value_order()
        scope_order = _ranks(columns.scope_words)[columns.scope]
        keys = columns.service.astype(np.int64) * len(settings.controls) + columns.control
        order = np.lexsort(
            (
                -scope_order[kept],
                columns.changed[kept],
                -value_order[columns.value[kept]],
                -columns.rank[kept],
                strength[kept],
                columns.pinned[kept],
                keys[kept],
            )
        )
        chosen = kept[order]
        self._keys = keys[chosen]
        self.kind, self.target, self.row = columns.kind[chosen], columns.target[chosen], columns.row[chosen]
        self.pinned, self.changed, self.rank = columns.pinned[chosen], columns.changed[chosen], columns.rank[chosen]
        self.step, self._value, self._scope = step[chosen], columns.value[chosen], columns.scope[chosen]
        self._value_texts = np.array([*settings.values, None], object)  # MISSING is the last
        self._scope_texts = np.array(columns.scope_words, object)

    def _count_left_out(self, columns: _Rows, placed: Longs) -> dict[tuple[str, str], int]:
        counted: dict[tuple[str, str], int] = {}
        services = self.snapshot.services or ()
        for number in np.flatnonzero((placed < 0) & (columns.kind != MEETING)).tolist():
            key = services[int(columns.service[number])].id, LEVELS[int(columns.kind[number])]
            counted[key] = counted.get(key, 0) + 1
        return counted

    def _value_order(self) -> Longs:
        """For each value its place by (strictness, text) among its control's; the last entry is for an unknown one."""
        settings = self.snapshot.settings
        assert settings is not None
        kinds = [self.snapshot.catalogue.index[control].kind for control in settings.controls]
        order = np.zeros(len(settings.values) + 1, np.int64)
        keyed = sorted(
            range(len(settings.values)),
            key=lambda number: (
                kinds[settings.value_controls[number]].strictness(settings.values[number]),
                settings.values[number],
            ),
        )
        order[keyed] = np.arange(len(keyed))
        return order

    def rows(self, service: str, control: str) -> Longs:
        """The rows of one service and control, by growing strength."""
        settings = self.snapshot.settings
        if settings is None or control not in settings.controls or service not in self._services:
            return np.empty(0, np.int64)
        key = self._services[service] * len(settings.controls) + settings.controls.index(control)
        first, last = np.searchsorted(self._keys, [key, key + 1]).tolist()
        return np.arange(first, last)

    def values(self, rows: Longs) -> list[str | None]:
        """The values of sorted rows; None for a level whose data is missing."""
        if not len(rows):
            return []
        found: list[str | None] = self._value_texts[self._value[rows]].tolist()
        return found

    def scopes(self, rows: Longs) -> list[str]:
        """The scopes of sorted rows, as written."""
        if not len(rows):
            return []
        found: list[str] = self._scope_texts[self._scope[rows]].tolist()
        return found

    def lacking(self, service: Service, control: str) -> Bools | None:
        """The people who have none of the licences that a control needs; None where it needs none, or where that is not known."""
        need, column = service.needs.get(control), self.snapshot.people.licences
        if need is None or column is None:
            return None
        key = (service.id, need.licences)
        if key not in self._lacking:
            self._lacking[key] = ~column.where([bool(need.licences & set(cell.split(";"))) for cell in column.words])
        return self._lacking[key]

    def effective(self, service: Service, control: str) -> Effective:
        """The effective values of a control on a service. Source: domain, "Effective values"."""
        return Effective(self, service, control)

    def accounts(self, service: Service) -> Bools:
        """Who has an account on a service: everybody where that cannot be answered."""
        if service.accounts is not None:
            try:
                return select(service.accounts, self.snapshot)
            except Unanswerable:
                pass
        return np.ones(len(self.snapshot.people), bool)


@record
class _Rows:
    """The settings as columns, with a stand-in row for each level whose data is missing."""

    service: Ints
    control: Ints
    kind: Ints
    target: Ints
    scope: Ints
    scope_words: tuple[str, ...]
    value: Ints
    pinned: Bools
    rank: Longs
    changed: Longs
    row: Ints

    @classmethod
    def of(cls, snapshot: Snapshot, level: Longs) -> _Rows:
        settings = snapshot.settings
        assert settings is not None
        absent = [kind for kind, there in ((UNIT, snapshot.units), (GROUP, snapshot.groups)) if there is None]
        gaps: dict[tuple[int, int, int], bool] = {}
        for kind in absent:
            for row in np.flatnonzero(settings.kind == kind).tolist():
                key = int(settings.service[row]), int(settings.control[row]), kind
                if level[key[0], kind] >= 0:
                    gaps[key] = gaps.get(key, False) or bool(settings.pinned[row])
        real = ~np.isin(settings.kind, absent) if absent else np.ones(len(settings), bool)
        if absent:  # what a service leaves out is still counted
            real |= level[settings.service, settings.kind] < 0
        extra = sorted(gaps)
        words = (*settings.scope.words, "")

        def joined(column: NDArray[_Cell], more: Sequence[int | bool]) -> NDArray[_Cell]:
            return np.concatenate((column[real], np.array(more, column.dtype)))

        count = len(extra)
        return cls(
            joined(settings.service, [key[0] for key in extra]),
            joined(settings.control, [key[1] for key in extra]),
            joined(settings.kind, [key[2] for key in extra]),
            joined(settings.target, [EVERYBODY] * count),
            joined(settings.scope.codes, [len(words) - 1] * count),
            words,
            joined(settings.value, [MISSING] * count),
            joined(settings.pinned, [gaps[key] for key in extra]),
            joined(settings.rank, [0] * count),
            joined(settings.changed, [NO_TIME] * count),
            joined(settings.row, [MISSING] * count),
        )


def _ranks(words: Sequence[str]) -> Longs:
    """For each word its place among all in text order."""
    order = np.zeros(len(words), np.int64)
    order[sorted(range(len(words)), key=words.__getitem__)] = np.arange(len(words))
    return order
