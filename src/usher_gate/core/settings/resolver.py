"""The settings of a snapshot in order of strength, by service and control."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import cached_property
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import MISSING, NO_TIME, Bools, Ints, Longs, distinct, sorted_unique
from ..organisation.select import Unanswerable, select
from ..organisation.services import Service
from ..organisation.settings import GROUP, MEETING, UNIT, Settings
from ..organisation.snapshot import Snapshot
from ..organisation.units import depth
from ..words.record import record
from ..words.vocabulary import LEVELS
from .effective import DEEPEST, EVERYBODY, Effective, SortedSettings

_KEPT_BYTES = 64 * 1024 * 1024  # of effective values that are kept, and at least a few columns
_FEW_COLUMNS = 8
_Cell = TypeVar("_Cell", np.int32, np.int64, np.bool_)


@record
class Edit:
    """One setting changed: its row in the settings table (MISSING for the service default), and its new value.

    None takes it away.
    """

    row: int
    value: str | None


class Resolver:
    """The settings of a snapshot by service and control, each sorted by strength when first asked for."""

    def __init__(self, snapshot: Snapshot) -> None:
        self.snapshot = snapshot
        self._services: Mapping[str, int] = {
            service.id: number for number, service in enumerate(snapshot.services or ())
        }
        self._lacking: dict[tuple[str, frozenset[str]], Bools] = {}
        self._kept: dict[tuple[str, str], Effective] = {}
        self._accounts: dict[str, Bools] = {}
        self._scope_orders: dict[int, Longs] = {}
        self.left_out: dict[
            tuple[str, str], int
        ] = {}  # settings at a level that a service leaves out, by service and level
        self._starts: Longs | None = None
        self.dropped: frozenset[tuple[str, str, str]] = frozenset()  # settings of meetings that count no more
        if snapshot.settings is not None and snapshot.services:
            self._place(snapshot.services, snapshot.settings)

    def _place(self, services: Sequence[Service], settings: Settings) -> None:
        """Finds each setting's step, and puts those of one service and control together."""
        level = np.full((len(services), MEETING + 1), MISSING, np.int64)
        for number, service in enumerate(services):
            for place, name in enumerate(service.precedence):
                level[number, LEVELS.index(name)] = place
        columns = self._columns = _SettingRows.of(self.snapshot, level)
        placed = level[columns.service, columns.kind]
        for row in np.flatnonzero((placed < 0) & (columns.kind != MEETING)).tolist():
            key = services[int(columns.service[row])].id, LEVELS[int(columns.kind[row])]
            self.left_out[key] = self.left_out.get(key, 0) + 1
        depths = np.zeros(len(columns.service), np.int64)
        if self.snapshot.units is not None and self.snapshot.units.paths:
            of_unit = np.array([*(depth(path) for path in self.snapshot.units.paths), 0], np.int64)
            in_unit = (columns.kind == UNIT) & (columns.target >= 0)
            depths[in_unit] = of_unit[columns.target[in_unit]]
        self._step = placed * DEEPEST + depths
        keys = columns.service.astype(np.int64) * len(settings.controls) + columns.control
        kept = np.flatnonzero(placed >= 0)
        self._order = kept[np.argsort(keys[kept], kind="stable")]
        count = len(services) * len(settings.controls)
        self._starts = np.searchsorted(keys[self._order], np.arange(count + 1)).astype(np.int64)

    @cached_property
    def _texts(self) -> tuple[NDArray[np.object_], NDArray[np.object_]]:
        """Return the values (MISSING is the last, unknown) and the scopes as texts."""
        settings = self.snapshot.settings
        assert settings is not None
        return np.array([*settings.values, None], object), np.array(self._columns.scope_words, object)

    def _scope_order(self, key: int, scopes: NDArray[np.object_]) -> Longs:
        """Return for each setting of one service and control the place of its scope among all of theirs, as text."""
        if key not in self._scope_orders:
            words = scopes.tolist()
            place = {word: number for number, word in enumerate(sorted(set(words)))}
            self._scope_orders[key] = np.array([place[word] for word in words], np.int64)
        return self._scope_orders[key]

    def _value_order(self, control: str, values: Ints, texts: Sequence[str | None]) -> Longs:
        """Return for each of some values of a control its place by (strictness, text); an unknown one comes first."""
        kind = self.snapshot.catalogue.index[control].kind
        found = [(value, texts[value]) for value in sorted_unique(values.astype(np.int64)).tolist()]
        used = [(kind.strictness(text), text, value) for value, text in found if text is not None]
        order = np.zeros(len(texts), np.int64)
        order[[value for *_, value in sorted(used)]] = np.arange(len(used))
        return order[values]

    def sorted_settings(self, service: str, control: str, edit: Edit | None = None) -> SortedSettings:
        """Return the settings of one service and control, by growing strength.

        One of them may be given another value.
        """
        settings = self.snapshot.settings
        if (
            self._starts is None
            or settings is None
            or control not in settings.controls
            or service not in self._services
        ):
            none = np.empty(0, np.int64)
            few = none.astype(np.int32)
            return SortedSettings(
                kind=few,
                target=few,
                pinned=none.astype(bool),
                rank=none,
                changed=none,
                step=none,
                row=few,
                values=[],
                scopes=[],
            )
        key = self._services[service] * len(settings.controls) + settings.controls.index(control)
        rows = self._order[self._starts[key] : self._starts[key + 1]]
        columns, (values, scopes) = self._columns, self._texts
        value, changed = columns.value[rows], columns.changed[rows]
        if edit is not None and edit.row != MISSING:
            mine = columns.row[rows] == edit.row  # what is changed now is not held to be young
            values = np.append(values[:-1], np.array([edit.value, None], object))
            value, changed = np.where(mine, len(values) - 2, value), np.where(mine, NO_TIME, changed)
        pinned, step = columns.pinned[rows], self._step[rows]
        order = np.lexsort(
            (
                -self._scope_order(key, scopes[columns.scope[rows]]),
                changed,
                -self._value_order(control, value, values.tolist()),
                -columns.rank[rows],
                np.where(pinned, -step, step),
                pinned,
            )
        )
        rows = rows[order]
        return SortedSettings(
            kind=columns.kind[rows],
            target=columns.target[rows],
            pinned=columns.pinned[rows],
            rank=columns.rank[rows],
            changed=changed[order],
            step=self._step[rows],
            row=columns.row[rows],
            values=values[value[order]].tolist(),
            scopes=scopes[columns.scope[rows]].tolist(),
        )

    def controls_set(self, service: Service) -> frozenset[str]:
        """Return the controls that some active setting of a service is about."""
        settings = self.snapshot.settings
        if settings is None or service.id not in self._services:
            return frozenset()
        used = distinct(settings.control[settings.service == self._services[service.id]])
        return frozenset(settings.controls[number] for number in used.tolist() if number >= 0)

    def edited(self, effective: Effective, edit: Edit) -> Effective:
        """Effective values as they would be with one setting (or the service default) edited."""
        service, control = effective.service, effective.control
        place = 0 if edit.row == MISSING else int(np.flatnonzero(effective.rows == edit.row)[0])
        if edit.value is None:
            return effective.without(place)
        same = effective.with_value(place, edit.value)
        if same is not None:
            return same
        if edit.row == MISSING:
            service = replace(service, factory={**service.factory, control: edit.value})
        settings = self.sorted_settings(service.id, control, edit)
        return Effective(self.snapshot, service, control, settings, effective.lacking)

    def licensed(self, service: Service, control: str, lacking: Bools) -> Effective:
        """Effective values as they would be if just these people lacked the licence that is needed."""
        return Effective(self.snapshot, service, control, self.sorted_settings(service.id, control), lacking)

    def lacking(self, service: Service, control: str) -> Bools | None:
        """Return the people who have none of the licences that a control needs.

        None where it needs none, or where that is not known.
        """
        need, column = service.needs.get(control), self.snapshot.people.licences
        if need is None or column is None:
            return None
        key = (service.id, need.licences)
        if key not in self._lacking:
            self._lacking[key] = ~column.where([bool(need.licences & set(cell.split(";"))) for cell in column.words])
        return self._lacking[key]

    def effective(self, service: Service, control: str) -> Effective:
        """Return the effective values of a control on a service; the last few are kept. Spec: effective-values 1."""
        key = (service.id, control)
        if key not in self._kept:
            while len(self._kept) >= max(_FEW_COLUMNS, _KEPT_BYTES // (4 * max(len(self.snapshot.people), 1))):
                del self._kept[next(iter(self._kept))]
            found = self.sorted_settings(service.id, control)
            self._kept[key] = Effective(self.snapshot, service, control, found, self.lacking(service, control))
        return self._kept[key]

    def accounts(self, service: Service) -> Bools:
        """Return who has an account on a service: everyone where that cannot be answered."""
        if service.id not in self._accounts:
            self._accounts[service.id] = np.ones(len(self.snapshot.people), bool)
            if service.accounts is not None:
                with suppress(Unanswerable):
                    self._accounts[service.id] = select(service.accounts, self.snapshot)
        return self._accounts[service.id]


@record
class _SettingRows:
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
    def of(cls, snapshot: Snapshot, level: Longs) -> _SettingRows:
        """Return the rows of the settings table, with one for each kind of place whose people are not known."""
        settings = snapshot.settings
        assert settings is not None
        absent = [kind for kind, there in ((UNIT, snapshot.units), (GROUP, snapshot.groups)) if there is None]
        gaps: dict[tuple[int, int, int], bool] = {}
        for kind in absent:
            for row in np.flatnonzero(settings.kind == kind).tolist():
                key = int(settings.service[row]), int(settings.control[row]), kind
                if level[key[0], kind] >= 0:
                    gaps[key] = gaps.get(key, False) or bool(settings.pinned[row])
        # Rows of a kind whose people are not known are replaced by one for everyone that holds no value.
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
