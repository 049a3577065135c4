"""What columns are made of: arrays, what an empty cell is, coded texts, and runs of numbers for many owners."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..words.record import record

Ints = NDArray[np.int32]
Longs = NDArray[np.int64]
Bools = NDArray[np.bool_]
# An empty cell: of a coded column, and of a column of times (microseconds since 1970-01-01T00:00Z).
MISSING = -1
NO_TIME = np.iinfo(np.int64).min
NO_RANK = np.iinfo(np.int64).max  # a blank rank comes last
DAY = 86_400_000_000
HOUR = 3_600_000_000
LONG_RUN = 16  # items, from which copying runs one by one is quicker than finding the place of each item


def distinct(values: np.ndarray) -> np.ndarray:
    """Return the different values of an array, ascending.

    `np.unique` says the same, and loads masked arrays for it: 15 ms of each start.
    """
    ordered = np.sort(values, axis=None)
    return ordered[np.append(True, ordered[1:] != ordered[:-1])] if len(ordered) else ordered


class Texts(Protocol):
    """Many texts, perhaps not as Python objects; position by position."""

    def __len__(self) -> int: ...

    def take(self, rows: Ints | Longs) -> list[str]:
        """Return the texts at these rows; an empty cell as the empty text."""

    def find(self, text: str) -> list[int]:
        """Return the rows that hold just this text."""


def alike(texts: Texts | None, text: str) -> list[int]:
    """Return the rows that hold just this text; else those that are the same but for case."""
    if texts is None:
        return []
    found = texts.find(text)
    if found:
        return found
    folded, every = text.casefold(), texts.take(np.arange(len(texts), dtype=np.int32))
    return [row for row, one in enumerate(every) if one.casefold() == folded]


@record
class Coded:
    """A column of texts with few different ones: `codes` (int32, MISSING for an empty cell) into `words`."""

    codes: Ints
    words: tuple[str, ...]

    def where(self, wanted: Sequence[bool]) -> Bools:
        """Return the rows whose word is wanted; `wanted` has one answer for each word. Empty cells are never wanted."""
        return np.array([*wanted, False], dtype=bool)[self.codes]


@record
class Ragged:
    """For each of n owners a run of numbers: those of owner i are `items[starts[i]:starts[i + 1]]`, ascending."""

    starts: Longs
    items: Ints

    def of(self, owner: int) -> Ints:
        """Return the run of one owner."""
        return self.items[int(self.starts[owner]) : int(self.starts[owner + 1])]

    def gather(self, owners: Longs | Ints) -> Ints:
        """Return the runs of many owners, one after another."""
        first, ends = self.starts.take(owners), self.starts.take(owners + 1)
        lengths = ends - first
        size = int(lengths.sum())
        if size > LONG_RUN * len(owners):  # each is copied whole
            runs = zip(first.tolist(), ends.tolist(), strict=True)
            return np.concatenate([self.items[start:end] for start, end in runs])
        rows = np.repeat(first - (np.cumsum(lengths) - lengths), lengths) + np.arange(size)
        return self.items.take(rows)

    def count(self, mask: Bools) -> Longs:
        """Return for each owner, how many of its items the mask holds."""
        sums = np.concatenate(([0], np.cumsum(mask[self.items], dtype=np.int64)))
        counted: Longs = sums[self.starts[1:]] - sums[self.starts[:-1]]
        return counted

    def items_between(self, first: int, last: int) -> Ragged:
        """Return the items from `first` to before `last` of every owner, numbered from 0."""
        kept = np.flatnonzero(between(self.items, first, last))
        return Ragged(np.searchsorted(kept, self.starts), self.items[kept] - np.int32(first))

    def owners_between(self, first: int, last: int) -> Ragged:
        """Return the runs of the owners from `first` to before `last`."""
        starts = self.starts[first : last + 1]
        return Ragged(starts - starts[0], self.items[int(starts[0]) : int(starts[-1])])


def between(numbers: Ints, first: int, last: int) -> Bools:
    """Return which numbers are at least `first` and less than `last`."""
    mask: Bools = (numbers >= first) & (numbers < last)
    return mask


def sorted_unique(numbers: Longs) -> Longs:
    """Return the different numbers, ascending; sorts the array that it is given, so that none is copied.

    (`np.unique` would import masked arrays for it, which costs 20 ms at every start.)
    """
    numbers.sort()
    return numbers[np.append(True, numbers[1:] != numbers[:-1])] if len(numbers) else numbers


def ragged(owners: Longs | Ints, items: Ints, count: int, item_count: int) -> Ragged:
    """Ragged from pairs in any order; repeated pairs count once."""
    keys = sorted_unique(owners.astype(np.int64) * max(item_count, 1) + items)
    starts = np.searchsorted(keys, np.arange(count + 1, dtype=np.int64) * max(item_count, 1))
    return Ragged(starts.astype(np.int64), (keys % max(item_count, 1)).astype(np.int32))
