"""Settings as they would be after some edits: the same resolver, with values given, taken away and added in memory.

Spec: changes 2.1 (what is changed is not held to be young).
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


class SettingTarget(NamedTuple):
    """A place where a control of a service is set or could be.

    Its kind (ORGANISATION to MEETING) and the number of the unit, group or person there (MISSING for the organisation
    and meetings), and the scope as it is written.
    """

    service: str
    control: str
    kind: int
    target: int
    scope: str


class NewValue(NamedTuple):
    """Describes what is set at a place by an edit: a value, pinned or not; None takes away what is set there."""

    value: str | None
    pinned: bool = False


Edits = Mapping[SettingTarget, NewValue]


def step_of(service: Service, edit_target: SettingTarget, paths: Sequence[str]) -> int:
    """Return how narrow a place is on a service's walk; MISSING where the service does not read that level.

    `paths` are the units' paths.
    """
    level = LEVELS[edit_target.kind]
    if level not in service.precedence:
        return MISSING
    deep = depth(paths[edit_target.target]) if edit_target.kind == UNIT and edit_target.target >= 0 else 0
    return service.precedence.index(level) * DEEPEST + deep


class EditedResolver(Resolver):
    """A resolver after some edits; what no edit touches is shared with the one that it was made from."""

    def __init__(self, base: Resolver, edits: Edits) -> None:
        self.__dict__.update(copy(base).__dict__)
        self._base, self._made = base, dict[tuple[str, str], Effective]()
        self._edits: dict[tuple[str, str], dict[SettingTarget, NewValue]] = {}
        for edit_target, given in edits.items():
            self._edits.setdefault((edit_target.service, edit_target.control), {})[edit_target] = given
        self.dropped = frozenset(
            (edit_target.service, edit_target.control, edit_target.scope)
            for edit_target in edits
            if edit_target.kind == MEETING
        )

    @property
    def touched(self) -> frozenset[tuple[str, str]]:
        """Return the services and controls that some edit is about."""
        return frozenset(self._edits)

    def effective(self, service: Service, control: str) -> Effective:
        """Return the effective values as edited."""
        key = service.id, control
        edits = {
            edit_target: given for edit_target, given in self._edits.get(key, {}).items() if edit_target.kind != MEETING
        }
        if not edits:
            return self._base.effective(service, control)
        if key not in self._made:
            settings = self._after(service, self._base.sorted_settings(service.id, control), edits)
            self._made[key] = Effective(self.snapshot, service, control, settings, self._base.lacking(service, control))
        return self._made[key]

    def moved(self, service: Service, control: str) -> Bools:
        """Return the people whose value comes, before or after, from a place that is edited."""
        mine = {(edit_target.kind, edit_target.target) for edit_target in self._edits.get((service.id, control), {})}
        found = np.zeros(len(self.snapshot.people), bool)
        for effective in (self._base.effective(service, control), self.effective(service, control)):
            at = np.array(
                [place in mine for place in zip(effective.kinds.tolist(), effective.targets.tolist(), strict=True)],
                bool,
            )
            found |= at[effective.places]
        return found

    def _after(self, service: Service, now: SortedSettings, edits: Edits) -> SortedSettings:
        """Return the settings of one control as they would be after some edits, in order of precedence."""
        paths = self.snapshot.units.paths if self.snapshot.units is not None else ()
        places = {place: row for row, place in enumerate(zip(now.kind.tolist(), now.target.tolist(), strict=True))}
        # Leave out the rows that the edits replace, and collect the rows that they add.
        kept = np.ones(len(now.values), bool)
        added: list[tuple[SettingTarget, NewValue, int, int]] = []
        for edit_target, given in edits.items():
            row = places.get((edit_target.kind, edit_target.target), MISSING)
            if row != MISSING:
                kept[row] = False
            if given.value is not None:
                rank = NO_RANK if row == MISSING else int(now.rank[row])
                added.append((edit_target, given, rank, MISSING if row == MISSING else int(now.row[row])))
        # Put both together, column by column.
        rows = np.flatnonzero(kept)
        whole = SortedSettings(
            kind=np.concatenate((now.kind[rows], [edit_target.kind for edit_target, *_ in added])).astype(np.int32),
            target=np.concatenate((now.target[rows], [edit_target.target for edit_target, *_ in added])).astype(
                np.int32
            ),
            pinned=np.concatenate((now.pinned[rows], [given.pinned for _, given, *_ in added])).astype(bool),
            rank=np.concatenate((now.rank[rows], np.array([rank for *_, rank, _ in added], np.int64))),
            changed=np.concatenate((now.changed[rows], np.full(len(added), NO_TIME, np.int64))),
            step=np.concatenate(
                (
                    now.step[rows],
                    np.array([step_of(service, edit_target, paths) for edit_target, *_ in added], np.int64),
                )
            ),
            row=np.concatenate((now.row[rows], [row for *_, row in added])).astype(np.int32),
            values=[*(now.values[row] for row in rows.tolist()), *(given.value for _, given, *_ in added)],
            scopes=[*(now.scopes[row] for row in rows.tolist()), *(edit_target.scope for edit_target, *_ in added)],
        )
        return self._by_strength(whole, edits)

    def _by_strength(self, rows: SortedSettings, edits: Edits) -> SortedSettings:
        """Sort settings by precedence, with the same ranks and ties as the settings that are read."""
        control = next(iter(edits)).control
        kind = self.snapshot.catalogue.index[control].kind
        known = {value for value in rows.values if value is not None}
        # Number values by strictness and scopes by name, so that one sort by numbers does it.
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
            kind=rows.kind[order],
            target=rows.target[order],
            pinned=rows.pinned[order],
            rank=rows.rank[order],
            changed=rows.changed[order],
            step=rows.step[order],
            row=rows.row[order],
            values=[rows.values[number] for number in order.tolist()],
            scopes=[rows.scopes[number] for number in order.tolist()],
        )


def person_level(service: Service) -> bool:
    """Return whether a service reads settings of single people."""
    return LEVELS[PERSON] in service.precedence
