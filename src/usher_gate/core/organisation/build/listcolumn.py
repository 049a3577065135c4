"""Columns held as Python lists: for small files and for JSON Lines."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from ...words.times import parse_time
from ..columns import MISSING, NO_TIME, Coded, Ints, Longs
from .table import CellColumn


class _Coder(dict[object, int]):
    """Numbers distinct cells by first appearance; an empty cell is MISSING."""

    def __init__(self) -> None:
        super().__init__({None: MISSING, "": MISSING})

    def __missing__(self, key: object) -> int:
        number = self[key] = len(self) - 2
        return number


class ListTexts:
    """Texts held as a list."""

    def __init__(self, values: Sequence[str]) -> None:
        self._values = values

    def __len__(self) -> int:
        return len(self._values)

    def take(self, rows: Ints | Longs) -> list[str]:
        """Return the texts at these rows."""
        values = self._values
        return [values[row] for row in rows.tolist()]

    def find(self, text: str) -> list[int]:
        """Return the rows that hold just this text."""
        return [row for row, value in enumerate(self._values) if value == text]


class ListColumn(CellColumn):
    """A column held as a list of texts and None."""

    def __init__(self, values: Sequence[str | None]) -> None:
        self.values = values

    def __len__(self) -> int:
        return len(self.values)

    def coded(self) -> Coded:
        coder = _Coder()
        codes = np.fromiter(map(coder.__getitem__, self.values), np.int32, len(self.values))
        return Coded(codes, tuple(str(word) for word in list(coder)[2:]))

    def texts(self, rows: Longs | None = None) -> ListTexts:
        chosen = self.values if rows is None else [self.values[row] for row in rows.tolist()]
        return ListTexts([value or "" for value in chosen])

    def times(self) -> tuple[Longs, Longs]:
        coded = self.coded()
        parsed = [parse_time(word) for word in coded.words]
        known = np.array([*(NO_TIME if time is None else time for time in parsed), NO_TIME], np.int64)
        wrong = np.array([*(time is None for time in parsed), False])
        return known[coded.codes], np.flatnonzero(wrong[coded.codes])

    def index_in(self, keys: CellColumn) -> Ints:
        return keys.rows_of(self.values)

    def rows_of(self, texts: Sequence[str | None]) -> Ints:
        rows: dict[str | None, int] = {key: row for row, key in enumerate(self.values) if key}
        return np.fromiter((rows.get(text, MISSING) for text in texts), np.int32, len(texts))

    def order(self) -> Longs | None:
        values = [value or "" for value in self.values]
        if all(first <= second for first, second in pairwise(values)):
            return None
        return np.array(sorted(range(len(values)), key=values.__getitem__), np.int64)

    def empty_rows(self) -> Longs:
        return np.array([row for row, value in enumerate(self.values) if not value], np.int64)

    def alike_without_case(self) -> bool:
        cells = [value.casefold() for value in self.values if value]
        return len(set(cells)) < len(cells)

    def repeated(self, order: Longs | None) -> list[tuple[int, int]]:
        rows = range(len(self.values)) if order is None else order.tolist()
        return [
            (first, second)
            for first, second in pairwise(rows)
            if self.values[first] and self.values[first] == self.values[second]
        ]
