"""A table before it is a part of the organisation: columns of cells, and the line of each row."""

from __future__ import annotations

from abc import ABC, abstractmethod
from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field
from operator import itemgetter
from pathlib import Path

from ...words.faults import Faults, nearest, quoted
from ...words.record import record
from ..columns import Coded, Ints, Longs, Texts

# What a column's cells are: in Parquet and JSON Lines they may have types of their own.
TEXT, LIST, FLAG, TIME, WHOLE, VALUE = "text", "list", "flag", "time", "whole number", "value"


@record
class Spec:
    """A table: the columns that must be there and filled, the others, and what their cells are (text if not said)."""

    name: str
    required: tuple[str, ...]
    optional: tuple[str, ...] = ()
    types: Mapping[str, str] = field(default_factory=dict)

    def knows(self, column: str) -> bool:
        """Return whether a column may stand in the table.

        `x.` columns, and `attr.` ones beside people, are carried along and not used.
        """
        return (
            column in self.required
            or column in self.optional
            or (column.startswith("x.") and len(column) > 2)
            or (column.startswith("attr.") and len(column) > 5)
        )

    def type_of(self, column: str) -> str:
        """Return what the cells of a column are."""
        return self.types.get(column, TEXT)

    def check_columns(self, columns: list[str], file: str, line: int, faults: Faults) -> None:
        """Names columns that are unknown, stand twice, or are missing."""
        known = (*self.required, *self.optional)
        for number, column in enumerate(columns):
            if not column.strip():
                faults.add(file, line, f"the column {number + 1} has no name; give it one, or take it out")
            elif column in columns[:number]:
                faults.add(file, line, f"the column {quoted(column)} occurs here twice; keep one")
            elif not self.knows(column):
                faults.add(
                    file,
                    line,
                    f"unknown column {quoted(column)}; {nearest(column, known)} (columns of your own begin with x.)",
                )
        for column in self.required:
            if column not in columns:
                faults.add(file, line, f"the column {column} is missing; {self.name} needs {', '.join(self.required)}")


class CellColumn(ABC):
    """The cells of one column. An empty cell is missing."""

    @abstractmethod
    def __len__(self) -> int: ...

    @abstractmethod
    def coded(self) -> Coded:
        """Return the cells as codes into distinct words, in order of first appearance."""

    @abstractmethod
    def texts(self, rows: Longs | None = None) -> Texts:
        """Return the cells as texts, all or those at some rows, in their order."""

    @abstractmethod
    def times(self) -> tuple[Longs, Longs]:
        """Return microseconds since the epoch (NO_TIME for an empty cell), and the rows that hold no time with an
        offset.
        """

    @abstractmethod
    def index_in(self, keys: CellColumn) -> Ints:
        """Return for each cell its row in `keys`; MISSING where it is empty or not there."""

    @abstractmethod
    def rows_of(self, texts: Sequence[str | None]) -> Ints:
        """Return the row of each of these texts; MISSING where it is empty or not there."""

    @abstractmethod
    def order(self) -> Longs | None:
        """Return the rows in text order; None if they stand in it already."""

    @abstractmethod
    def empty_rows(self) -> Longs:
        """Return the rows whose cell is empty."""

    @abstractmethod
    def alike_without_case(self) -> bool:
        """Return whether two cells (not empty) hold the same text if case does not count."""

    @abstractmethod
    def repeated(self, order: Longs | None) -> list[tuple[int, int]]:
        """Return pairs of rows that hold the same text, given the column's order."""


@record
class Table:
    """One table as read; `line_of` turns a row into the line (in Parquet the row, counted from 1).

    A table in several files has `pieces`: the name of each below `file`, its folder, and its first row.
    """

    spec: Spec
    file: str
    rows: int
    columns: Mapping[str, CellColumn]
    line_of: Callable[[int], int]
    pieces: tuple[tuple[str, int], ...] = ()

    @property
    def name(self) -> str:
        """Return the file's name without its folder, for notes."""
        return Path(self.file).name

    def where(self, row: int) -> str:
        """Return the file and line of a row, for notes."""
        piece = piece_of(self.pieces, row)
        return f"{self.name}/{piece}:{self.line_of(row)}" if piece else f"{self.name}:{self.line_of(row)}"

    def line(self, row: int) -> str:
        """Return the line of a row, for a fault in another row of the table."""
        piece = piece_of(self.pieces, row)
        return f"row {self.line_of(row)} of {piece}" if piece else f"line {self.line_of(row)}"

    def fault(self, row: int, message: str, faults: Faults) -> None:
        """Names a fault in a row."""
        piece = piece_of(self.pieces, row)
        faults.add(f"{self.file}/{piece}" if piece else self.file, self.line_of(row), message)


def piece_of(pieces: Sequence[tuple[str, int]], row: int) -> str:
    """Return the file of a row of a table in several files; "" for a table in one file."""
    return pieces[bisect_right(pieces, row, key=itemgetter(1)) - 1][0] if pieces else ""
