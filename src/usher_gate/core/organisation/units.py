"""The tree of organisational units."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import numpy as np

from ..words.record import record
from .columns import MISSING, Bools, Ints, Longs


@record
class Units:
    """The tree of units: every unit with someone in or below it, in the order of a walk through the tree."""

    paths: tuple[str, ...]
    codes: Ints  # of each active person, MISSING in no unit

    @cached_property
    def index(self) -> Mapping[str, int]:
        """Return the index of each path."""
        return {path: number for number, path in enumerate(self.paths)}

    @cached_property
    def ends(self) -> tuple[int, ...]:
        """Return for each unit, the place after the last unit below it."""
        ends = list(range(1, len(self.paths) + 1))
        for number in range(len(self.paths) - 1, -1, -1):
            above = parent(self.paths[number])
            if above is not None:
                ends[self.index[above]] = max(ends[self.index[above]], ends[number])
        return tuple(ends)

    @cached_property
    def _ordered(self) -> tuple[Ints, Longs]:
        order = np.argsort(self.codes, kind="stable").astype(np.int32)
        return order, np.searchsorted(self.codes[order], np.arange(len(self.paths) + 1)).astype(np.int64)

    def members(self, unit: int) -> Ints:
        """Return the active people in a unit and below it."""
        order, starts = self._ordered
        return order[starts[unit] : starts[self.ends[unit]]]

    def count(self, mask: Bools) -> Longs:
        """Return for each unit, how many people in it and below it the mask holds."""
        return self.count_of(np.flatnonzero(mask))

    def count_of(self, people: Longs) -> Longs:
        """Return for each unit, how many of these people are in it and below it."""
        codes = self.codes[people]
        here = np.bincount(codes[codes >= 0], minlength=len(self.paths))
        sums = np.concatenate(([0], np.cumsum(here)))
        counted: Longs = sums[np.asarray(self.ends, dtype=np.int64)] - sums[:-1]
        return counted

    def path_of(self, person: int) -> list[str]:
        """Return the units on the way from `/` down to the person's, widest first; empty for someone in no unit."""
        code = int(self.codes[person])
        return [] if code == MISSING else lineage(self.paths[code])


def parent(path: str) -> str | None:
    """Return the unit above; None for `/`."""
    if path == "/":
        return None
    return path.rpartition("/")[0] or "/"


def lineage(path: str) -> list[str]:
    """Return a unit's path and all above it, widest first."""
    found = [path]
    while (above := parent(found[-1])) is not None:
        found.append(above)
    return found[::-1]


def depth(path: str) -> int:
    """Return how far below `/` a unit is."""
    return 0 if path == "/" else path.count("/")
