"""Effective values: what each person really gets for one control on one service, and the setting that causes it.

All settings of a service and control are sorted once by strength, weakest first: not pinned before pinned; among those
not pinned the widest step first, among pinned ones the narrowest; at one step by the order that names its winner.
Painting the people each setting covers in that order leaves, for every person, the place of the setting that causes the
value.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import MISSING, NO_RANK, NO_TIME, Bools, Ints, Longs
from ..organisation.services import Service
from ..organisation.settings import GROUP, ORGANISATION, PERSON, UNIT
from ..organisation.snapshot import Snapshot
from ..words.record import record
from ..words.vocabulary import LEVELS

EVERYBODY = -2  # the target of a stand-in for a level whose data is missing
FACTORY = "factory"  # the scope of a service's default
LICENCE = 5  # the kind of the value that `without` gives
DEEPEST = 1 << 20  # units below one another, at most


@record
class Cause:
    """Says where an effective value comes from.

    A setting (`row` is its row in the settings table), `factory` or `licence`.

    `scope` None says that the value is unknown for want of any source.
    """

    scope: str | None
    value: str | None
    pinned: bool = False
    changed: int = NO_TIME
    row: int = MISSING


@record
class SortedSettings:
    """The settings of one service and control by growing strength, one a place.

    `kind` is a scope kind (int32), `target` the number of the unit, group or person (EVERYBODY for a level whose data
    is missing), `step` how narrow it is, `row` its row in the table.
    """

    kind: Ints
    target: Ints
    pinned: Bools
    rank: Longs
    changed: Longs
    step: Longs
    row: Ints
    values: list[str | None]
    scopes: list[str]


def members_at(snapshot: Snapshot, kind: int, target: int) -> Ints:
    """Return the active people at a place: the organisation, a unit, a group, or a person."""
    if kind == ORGANISATION or target == EVERYBODY:
        return np.arange(len(snapshot.people), dtype=np.int32)
    if target == MISSING:
        return np.empty(0, np.int32)
    if kind == UNIT and snapshot.units is not None:
        return snapshot.units.members(target)
    if kind == GROUP and snapshot.groups is not None:
        return snapshot.groups.members(target)
    return np.array([target] if kind == PERSON else [], np.int32)


class Effective:
    """The effective values of one control on one service, for all active people.

    `places[p]` is the place of person p's cause; the properties of a place stand in arrays of the same order:
    place 0 is the service default (or unknown), the rest are settings by growing strength.
    """

    def __init__(
        self, snapshot: Snapshot, service: Service, control: str, settings: SortedSettings, lacking: Bools | None
    ) -> None:
        """`lacking` are the people without the licence that is needed.

        None where none is, or where that is not known.
        """
        self.service, self.control, self.lacking = service, control, lacking
        self._snapshot = snapshot
        need = service.needs.get(control)
        without = need.without if need is not None and lacking is not None else None
        last = 0 if without is None else 1  # the value for want of a licence is the strongest place
        factory = service.factory.get(control) if snapshot.settings is not None else None
        # Place 0 is the service default, then the settings, the weakest first, and last the value without a licence.
        self._values: list[str | None] = [factory, *settings.values, *([without] * last)]
        self._scopes: list[str | None] = ["factory" if factory is not None else None, *settings.scopes]
        self._scopes += ["licence"] * last
        self.kinds = np.concatenate(([MISSING], settings.kind, [LICENCE] * last)).astype(np.int32)
        self.targets = np.concatenate(([MISSING], settings.target, [MISSING] * last)).astype(np.int32)
        self.pinned = np.concatenate(([False], settings.pinned, [True] * last)).astype(bool)
        self.changed = np.concatenate(([NO_TIME], settings.changed, [NO_TIME] * last)).astype(np.int64)
        self.rows = np.concatenate(([MISSING], settings.row, [MISSING] * last)).astype(np.int32)
        self.steps = np.concatenate(([MISSING], settings.step, [DEEPEST * len(LEVELS)] * last)).astype(np.int64)
        self.young: Bools = (self.changed != NO_TIME) & (snapshot.taken_at - self.changed < service.settle)
        ranks: list[Longs] = [np.full(1, NO_RANK, np.int64), settings.rank, np.full(last, NO_RANK, np.int64)]
        self.ranks: Longs = np.concatenate(ranks)

    def __len__(self) -> int:
        return len(self._values)

    @property
    def values(self) -> list[str | None]:
        """Return the canonical text of the value at each place; None where it is unknown."""
        return self._values

    def value(self, place: int) -> str | None:
        """Return the value at one place."""
        return self._values[place]

    def cause(self, place: int) -> Cause:
        """Return where the value at a place comes from."""
        value = self._values[place]
        return Cause(
            scope=self._scopes[place] if value is not None else None,
            value=value,
            pinned=bool(self.pinned[place]),
            changed=int(self.changed[place]),
            row=int(self.rows[place]),
        )

    @property
    def unlicensed(self) -> bool:
        """Return whether people without the licence have no value at all (as against the one that `without` gives)."""
        need = self.service.needs.get(self.control)
        return need is not None and need.without is None

    @property
    def licence_unknown(self) -> bool:
        """Return whether a licence is needed and the snapshot does not say who has which."""
        return self.control in self.service.needs and self.lacking is None

    def licence_of(self, person: int) -> str:
        """Return what the licence says: "" (none needed), `held`, `without`, `unavailable` or `unknown`."""
        need = self.service.needs.get(self.control)
        if need is None:
            return ""
        if self.lacking is None:
            return "unknown"
        if not self.lacking[person]:
            return "held"
        return "unavailable" if need.without is None else "without"

    @cached_property
    def places(self) -> Ints:
        """Return for each active person the place of the cause (int32)."""
        return self.apply_in_order(range(1, len(self)))

    def differs(self, other: Effective) -> Bools:
        """Return whose value is another under other settings of the same control.

        Of those who have one, as far as a licence is needed.
        """
        if self.licence_unknown:
            return np.zeros(len(self.places), bool)
        words = {value: number for number, value in enumerate((*self._values, *other._values))}
        mine, theirs = (np.array([words[value] for value in one._values])[one.places] for one in (self, other))
        found: Bools = mine != theirs
        return found & ~self.lacking if self.unlicensed and self.lacking is not None else found

    @cached_property
    def classes(self) -> NDArray[np.int64]:
        """Numbers the places so that those of equal precedence at the group step share a number.

        All others have their own.
        """
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
        """Return whether settings of equal precedence have different values, so that values may be contested."""
        pairs = {(number, value) for number, value in zip(self.classes.tolist(), self._values, strict=True)}
        return len(pairs) > int(self.classes[-1]) + 1

    @property
    def disputed(self) -> dict[int, list[int]]:
        """Return the places with different values of each precedence rank (by the number that they share)."""
        found: dict[int, list[int]] = {}
        for place, number in enumerate(self.classes.tolist()):
            found.setdefault(number, []).append(place)
        return {
            number: places for number, places in found.items() if len({self._values[place] for place in places}) > 1
        }

    def worst_places(self, goodness: NDArray[np.uint8]) -> Ints:
        """Like `places`, but of settings of equal precedence the one of least goodness (one number a place) counts."""
        order = np.lexsort((np.arange(len(self)), -goodness.astype(np.int64), self.classes))
        return self.apply_in_order(order[order > 0].tolist())

    def rivals(self, person: int, place: int) -> list[int]:
        """Return the places of a person's settings that have the standing of the one at `place`, strongest first,
        itself included.
        """
        if self.kinds[place] != GROUP or self._snapshot.groups is None:
            return [place]
        mine = self._snapshot.groups.of(person)
        alike = np.flatnonzero((self.classes == self.classes[place]) & np.isin(self.targets, mine))
        return [int(one_place) for one_place in alike[::-1]]

    def covering(self, person: int) -> list[int]:
        """Return the places of all settings that cover a person, by growing strength."""
        found = []
        for place in range(1, len(self)):
            if np.any(self.members(place) == person):
                found.append(place)
        return found

    def alone(self, place: int) -> bool:
        """Return whether another value at a place changes no one's cause: no other setting has its standing."""
        return bool(self.kinds[place] != GROUP or np.count_nonzero(self.classes == self.classes[place]) == 1)

    def with_value(self, place: int, value: str) -> Effective | None:
        """Return the same with another value (long settled) at one place, where that changes no one's cause.

        None where it may.
        """
        if not self.alone(place):
            return None
        other = copy(self)
        other._values = [value if number == place else known for number, known in enumerate(self._values)]
        other.changed = self.changed.copy()
        other.changed[place] = NO_TIME
        other.young = self.young & (other.changed != NO_TIME)
        for name in ("contestable", "_places_of"):
            other.__dict__.pop(name, None)
        other.__dict__["places"] = self.places
        return other

    def without(self, place: int) -> Effective:
        """Return the same with no one under the setting at one place.

        People who had its value get that of the strongest other one.
        """
        other = copy(self)
        other.kinds, other.targets = self.kinds.copy(), self.targets.copy()
        other.kinds[place] = other.targets[place] = MISSING
        for name in ("contestable", "places"):
            other.__dict__.pop(name, None)
        return other

    def place_of(self, scope: str) -> int:
        """Return the place of the setting at a scope; 0 for `factory`. There is at most one active setting at each."""
        return 0 if scope == "factory" else self._places_of[scope]

    @cached_property
    def _places_of(self) -> Mapping[str, int]:
        return {scope: place for place, scope in enumerate(self._scopes) if scope is not None}

    def members(self, place: int) -> Ints:
        """Return the active people that the setting at a place covers."""
        kind, target = int(self.kinds[place]), int(self.targets[place])
        if kind == LICENCE:
            assert self.lacking is not None
            return np.flatnonzero(self.lacking).astype(np.int32)
        return members_at(self._snapshot, kind, target)

    def members_of(self, places: Ints) -> tuple[Ints, Longs]:
        """Return the active people that the settings at many places of equal precedence cover, one place after another,
        and how many each covers.
        """
        groups = self._snapshot.groups
        if groups is not None and bool(np.all((self.kinds[places] == GROUP) & (self.targets[places] >= 0))):
            return groups.members_of(self.targets[places])
        members = [self.members(place) for place in places.tolist()]
        return np.concatenate(members), np.array([len(some) for some in members], np.int64)

    def apply_in_order(self, order: Sequence[int]) -> Ints:
        """Apply settings in order of precedence, the weakest first, and return the effective one of each person (its
        number).
        """
        places = np.zeros(len(self._snapshot.people), np.int32)
        every = np.array(order, np.int32)
        kinds, targets = self.kinds[every], self.targets[every]
        # Runs of one kind: no two settings of persons cover one person, and of several groups the last stays.
        alike = np.where((targets == EVERYBODY) | (kinds == MISSING), MISSING, kinds)
        ends = np.flatnonzero(np.append(alike[1:] != alike[:-1], True)) + 1 if len(every) else np.empty(0, np.int64)
        start = 0
        for end in ends.tolist():
            some, kind = every[start:end], int(alike[start])
            start = end
            if kind == PERSON:
                some = some[self.targets[some] >= 0]
                places[self.targets[some]] = some
            elif kind == GROUP and self._snapshot.groups is not None:
                some = some[self.targets[some] >= 0]
                covered, counts = self._snapshot.groups.members_of(self.targets[some])
                places[covered] = np.repeat(some, counts)
            else:
                for place in some.tolist():
                    if self.kinds[place] == ORGANISATION or self.targets[place] == EVERYBODY:
                        places[:] = place
                    else:
                        places[self.members(place)] = place
        return places
