"""Settings as they would be after some edits: the same resolver, with values given, taken away and added in memory.

Source: changes, section 3; reading 28 (what is changed is not held to be young).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from typing import NamedTuple

import numpy as np

from ..organisation.columns import MISSING, NO_RANK, NO_TIME, Bools, Longs
from ..organisation.services import Service
from ..organisation.settings import MEETING, PERSON, UNIT
from ..organisation.units import depth
from ..words.vocabulary import LEVELS
from .effective import DEEPEST, Effective, SortedSettings
from .resolver import Resolver


class Spot(NamedTuple):
    """A place where a control of a service is set or could be: its kind (ORGANISATION to MEETING) and the number of the unit, group or
    person there (MISSING for the organisation and meetings), and the scope as it is written."""

    service: str
    control: str
    kind: int
    target: int
    scope: str


class Given(NamedTuple):
    """What is set at a place by an edit: a value, pinned or not; None takes away what is set there."""

    value: str | None
    pinned: bool = False


Edits = Mapping[Spot, Given]


def step_of(service: Service, spot: Spot, paths: Sequence[str]) -> int:
    """How narrow a place is on a service's walk; MISSING where the service does not read that level. `paths` are the units' paths."""
    level = LEVELS[spot.kind]
    if level not in service.precedence:
        return MISSING
    deep = depth(paths[spot.target]) if spot.kind == UNIT and spot.target >= 0 else 0
    return service.precedence.index(level) * DEEPEST + deep


class EditedResolver(Resolver):
    """A resolver after some edits; what no edit touches is shared with the one that it was made from."""

    def __init__(self, base: Resolver, edits: Edits) -> None:
        self.__dict__.update(copy(base).__dict__)
        self._base, self._made = base, dict[tuple[str, str], Effective]()
        self._edits: dict[tuple[str, str], dict[Spot, Given]] = {}
        for spot, given in edits.items():
            self._edits.setdefault((spot.service, spot.control), {})[spot] = given
        self.dropped = frozenset((spot.service, spot.control, spot.scope) for spot in edits if spot.kind == MEETING)

    @property
    def touched(self) -> frozenset[tuple[str, str]]:
        """The services and controls that some edit is about."""
        return frozenset(self._edits)

    def effective(self, service: Service, control: str) -> Effective:
        """The effective values as edited."""
        key = service.id, control
        edits = {spot: given for spot, given in self._edits.get(key, {}).items() if spot.kind != MEETING}
        if not edits:
            return self._base.effective(service, control)
        if key not in self._made:
            settings = self._after(service, self._base.sorted_settings(service.id, control), edits)
            self._made[key] = Effective(self.snapshot, service, control, settings, self._base.lacking(service, control))
        return self._made[key]

    def moved(self, service: Service, control: str) -> Bools:
        """The people whose value comes, before or after, from a place that is edited."""
        mine = {(spot.kind, spot.target) for spot in self._edits.get((service.id, control), {})}
        found = np.zeros(len(self.snapshot.people), bool)
        for effective in (self._base.effective(service, control), self.effective(service, control)):
            at = np.array(
                [place in mine for place in zip(effective.kinds.tolist(), effective.targets.tolist(), strict=True)],
                bool,
            )
            found |= at[effective.places]
        return found

    def _after(self, service: Service, now: SortedSettings, edits: Edits) -> SortedSettings:
        paths = self.snapshot.units.paths if self.snapshot.units is not None else ()
        places = {place: row for row, place in enumerate(zip(now.kind.tolist(), now.target.tolist(), strict=True))}
        kept = np.ones(len(now.values), bool)
        added: list[tuple[Spot, Given, int, int]] = []
        for spot, given in edits.items():
            row = places.get((spot.kind, spot.target), MISSING)
            if row != MISSING:
                kept[row] = False
            if given.value is not None:
                rank = NO_RANK if row == MISSING else int(now.rank[row])
                added.append((spot, given, rank, MISSING if row == MISSING else int(now.row[row])))
        rows = np.flatnonzero(kept)
        whole = SortedSettings(
            np.concatenate((now.kind[rows], [spot.kind for spot, *_ in added])).astype(np.int32),
            np.concatenate((now.target[rows], [spot.target for spot, *_ in added])).astype(np.int32),
            np.concatenate((now.pinned[rows], [given.pinned for _, given, *_ in added])).astype(bool),
            np.concatenate((now.rank[rows], np.array([rank for *_, rank, _ in added], np.int64))),
            np.concatenate((now.changed[rows], np.full(len(added), NO_TIME, np.int64))),
            np.concatenate((now.step[rows], np.array([step_of(service, spot, paths) for spot, *_ in added], np.int64))),
            np.concatenate((now.row[rows], [row for *_, row in added])).astype(np.int32),
            [*(now.values[row] for row in rows.tolist()), *(given.value for _, given, *_ in added)],
            [*(now.scopes[row] for row in rows.tolist()), *(spot.scope for spot, *_ in added)],
        )
        return self._by_strength(whole, edits)

    def _by_strength(self, rows: SortedSettings, edits: Edits) -> SortedSettings:
        control = next(iter(edits)).control
        kind = self.snapshot.catalogue.index[control].kind
        known = {value for value in rows.values if value is not None}
        place: dict[str | None, int] = {None: -1}
        place |= {value: number for number, value in enumerate(sorted(known, key=lambda v: (kind.strictness(v), v)))}
        texts = {scope: number for number, scope in enumerate(sorted(set(rows.scopes)))}
        values: Longs = np.array([place[value] for value in rows.values], np.int64)
        scopes: Longs = np.array([texts[scope] for scope in rows.scopes], np.int64)
        order = np.lexsort(
            (
                -scopes,
                rows.changed,
                -values,
                -rows.rank,
                np.where(rows.pinned, -rows.step, rows.step),
                rows.pinned,
            )
        )
        return SortedSettings(
            rows.kind[order],
            rows.target[order],
            rows.pinned[order],
            rows.rank[order],
            rows.changed[order],
            rows.step[order],
            rows.row[order],
            [rows.values[number] for number in order.tolist()],
            [rows.scopes[number] for number in order.tolist()],
        )


def person_level(service: Service) -> bool:
    """Whether a service reads settings of single people."""
    return LEVELS[PERSON] in service.precedence
