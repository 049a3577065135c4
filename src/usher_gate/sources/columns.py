"""Rows of a large table by columns: one list of texts for each column in place of one dictionary for each row."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import overload

from .interface import Row


def column_names(rows: Sequence[Row]) -> set[str]:
    """Return the columns that some row has."""
    return set(rows.cells) if isinstance(rows, Columns) else {column for row in rows for column in row}


def column_cells(rows: Sequence[Row], name: str) -> list[str]:
    """Return the cells of one column, "" where a row has none."""
    return rows.column(name) if isinstance(rows, Columns) else [row.get(name, "") for row in rows]


class Columns(Sequence[Row]):
    """The rows of one table by columns, all of one length.

    "" is an empty cell, and a column of nothing else is left out.

    As a sequence it gives each row as a dictionary of its own, without the empty cells.
    """

    def __init__(self, cells: Mapping[str, list[str]]) -> None:
        self.cells = {name: texts for name, texts in cells.items() if any(texts)}
        self._length = max(map(len, cells.values()), default=0)
        if any(len(texts) != self._length for texts in cells.values()):
            raise ValueError("the columns of a table are of one length")

    def __len__(self) -> int:
        return self._length

    @overload
    def __getitem__(self, number: int) -> Row: ...
    @overload
    def __getitem__(self, number: slice) -> Sequence[Row]: ...
    def __getitem__(self, number: int | slice) -> Row | Sequence[Row]:
        if isinstance(number, slice):
            return Columns({name: texts[number] for name, texts in self.cells.items()})
        return {name: texts[number] for name, texts in self.cells.items() if texts[number]}

    def __iter__(self) -> Iterator[Row]:
        names = list(self.cells)
        for texts in zip(*self.cells.values(), strict=True):
            yield {name: text for name, text in zip(names, texts, strict=True) if text}

    def column(self, name: str) -> list[str]:
        """Return the cells of one column."""
        return self.cells.get(name) or [""] * self._length
