"""The settings of a snapshot in order of strength, by service and control."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from functools import cached_property
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import MISSING, NO_TIME, Bools, Ints, Longs, sorted_unique
from ..organisation.select import Unanswerable, select
from ..organisation.services import Service
from ..organisation.settings import GROUP, MEETING, UNIT, Settings
from ..organisation.snapshot import Snapshot
from ..organisation.units import depth
from ..words.record import record
from ..words.vocabulary import LEVELS
from .effective import DEEPEST, EVERYBODY, Effective, SortedSettings

_KEPT_COLUMNS = 8
_Cell = TypeVar("_Cell", np.int32, np.int64, np.bool_)


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
        self.left_out: dict[
            tuple[str, str], int
        ] = {}  # settings at a level that a service leaves out, by service and level
        self._starts: Longs | None = None
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
    def _scope_order(self) -> Longs:
        return _ranks(self._columns.scope_words)

    @cached_property
    def _texts(self) -> tuple[NDArray[np.object_], NDArray[np.object_]]:
        """The values (MISSING is the last, unknown) and the scopes as texts."""
        settings = self.snapshot.settings
        assert settings is not None
        return np.array([*settings.values, None], object), np.array(self._columns.scope_words, object)

    def _value_order(self, control: str, values: Ints) -> Longs:
        """For each of some values of a control its place by (strictness, text); an unknown one comes first."""
        settings = self.snapshot.settings
        assert settings is not None
        kind = self.snapshot.catalogue.index[control].kind
        used = [value for value in sorted_unique(values.astype(np.int64)).tolist() if value != MISSING]
        used.sort(key=lambda value: (kind.strictness(settings.values[value]), settings.values[value]))
        order = np.zeros(len(settings.values) + 1, np.int64)
        order[used] = np.arange(len(used))
        return order[values]

    def sorted_settings(self, service: str, control: str) -> SortedSettings:
        """The settings of one service and control, by growing strength."""
        settings = self.snapshot.settings
        if (
            self._starts is None
            or settings is None
            or control not in settings.controls
            or service not in self._services
        ):
            none = np.empty(0, np.int64)
            few = none.astype(np.int32)
            return SortedSettings(few, few, none.astype(bool), none, none, none, few, [], [])
        key = self._services[service] * len(settings.controls) + settings.controls.index(control)
        rows = self._order[self._starts[key] : self._starts[key + 1]]
        columns, step = self._columns, self._step[rows]
        pinned = columns.pinned[rows]
        order = np.lexsort(
            (
                -self._scope_order[columns.scope[rows]],
                columns.changed[rows],
                -self._value_order(control, columns.value[rows]),
                -columns.rank[rows],
                np.where(pinned, -step, step),
                pinned,
            )
        )
        rows = rows[order]
        values, scopes = self._texts
        return SortedSettings(
            columns.kind[rows],
            columns.target[rows],
            columns.pinned[rows],
            columns.rank[rows],
            columns.changed[rows],
            self._step[rows],
            columns.row[rows],
            values[columns.value[rows]].tolist(),
            scopes[columns.scope[rows]].tolist(),
        )

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
        """The effective values of a control on a service; the last few are kept. Source: domain, "Effective values"."""
        key = (service.id, control)
        if key not in self._kept:
            while len(self._kept) >= _KEPT_COLUMNS:
                del self._kept[next(iter(self._kept))]
            found = self.sorted_settings(service.id, control)
            self._kept[key] = Effective(self.snapshot, service, control, found, self.lacking(service, control))
        return self._kept[key]

    def accounts(self, service: Service) -> Bools:
        """Who has an account on a service: everybody where that cannot be answered."""
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
