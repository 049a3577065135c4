"""A table that can be written in: only the columns that are written in are made anew."""

from __future__ import annotations

import numpy as np

from ..organisation.build.listcolumn import ListColumn
from ..organisation.build.table import TEXT, TIME, CellColumn, Table
from ..organisation.columns import NO_TIME
from ..words.times import rfc3339


def cells_of(table: Table, name: str) -> list[str]:
    """Return the cells of a column as texts, however they are kept; "" for an empty one."""
    column, kind = table.columns[name], table.spec.type_of(name)
    if kind == TIME:
        times, _ = column.times()
        known = {time: "" if time == NO_TIME else rfc3339(time) for time in set(times.tolist())}
        return [known[time] for time in times.tolist()]
    if kind == TEXT:
        return column.texts().take(np.arange(table.rows))
    coded = column.coded()
    words = (*coded.words, "")
    return [words[code] for code in coded.codes.tolist()]


class Sheet:
    """A table with cells changed, rows added at its end and rows taken out."""

    def __init__(self, table: Table) -> None:
        self.table = table
        self._lists: dict[str, list[str | None]] = {}
        self._out: set[int] = set()
        self._rows = table.rows

    def has(self, column: str) -> bool:
        """Return whether the table has a column."""
        return column in self.table.columns

    def column(self, name: str) -> list[str | None]:
        """Return the cells of a column, to be read or written; None for an empty one."""
        if name not in self._lists:
            cells = cells_of(self.table, name)
            self._lists[name] = [*(cell or None for cell in cells), *([None] * (self._rows - self.table.rows))]
        return self._lists[name]

    def cell(self, row: int, name: str) -> str:
        """Return one cell; "" for an empty one, and where there is no such column."""
        return self.column(name)[row] or "" if self.has(name) else ""

    def write(self, row: int, name: str, text: str) -> bool:
        """Writes a cell; says whether that changes it."""
        cells = self.column(name)
        changed = (cells[row] or "") != text
        cells[row] = text or None
        return changed

    def add(self, cells: dict[str, str]) -> int:
        """Adds a row; gives its number."""
        for name in self.table.columns:
            self.column(name).append(cells.get(name) or None)
        self._rows += 1
        return self._rows - 1

    def take_out(self, row: int) -> None:
        """Takes a row out; numbers stay as they are until `done`."""
        self._out.add(row)

    def there(self, row: int) -> bool:
        """Return whether a row was not taken out."""
        return row not in self._out

    @property
    def rows(self) -> int:
        """Return how many rows there are, those taken out included."""
        return self._rows

    @property
    def touched(self) -> bool:
        """Return whether anything was read as a list (and so perhaps written), added or taken out."""
        return bool(self._lists or self._out)

    def done(self) -> Table:
        """Return the table as it is now."""
        kept = [row for row in range(self._rows) if row not in self._out]
        columns: dict[str, CellColumn] = {}
        for name, column in self.table.columns.items():
            if name in self._lists or self._out:
                cells = self.column(name)
                columns[name] = ListColumn([cells[row] for row in kept])
            else:
                columns[name] = column
        before = self.table

        def line_of(row: int) -> int:
            old = kept[row]
            return before.line_of(old) if old < before.rows else 0

        return Table(spec=before.spec, file=before.file, rows=len(kept), columns=columns, line_of=line_of)
