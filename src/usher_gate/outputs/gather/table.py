"""What one source would give, for a person."""

from __future__ import annotations

from typing import TextIO

from ..drawing import console, draw, say
from ..look import Look
from ..section import COUNT, Column, Section, count
from .answer import AttemptAnswer

_SHOWN = 5  # rows of each table


def write_attempt(answer: AttemptAnswer, stream: TextIO, look: Look) -> None:
    """Writes the first rows of each table, and what the mapping leaves over."""
    with console(stream, look) as out:
        say(out, f"{answer.source} ({answer.kind}) would give, and nothing was written:")
        for table, rows in sorted(answer.tables.items()):
            columns = sorted({column for row in rows for column in row})
            shown = tuple(tuple(row.get(column, "") for column in columns) for row in rows[:_SHOWN])
            if shown:
                more = f"and {len(rows) - _SHOWN:,} more" if len(rows) > _SHOWN else ""
                title = f"{table}: {count(len(rows), 'row')}"
                draw(out, Section(title, tuple(Column(column) for column in columns), shown, more))
            else:
                say(out, "")
                say(out, f"{table}: no rows")
        for file, path in answer.files.items():
            say(out, f"{file}: {path}, as it is")
        over = tuple(sorted(answer.left_columns.items()))
        if over:
            heads = (Column("column"), Column("filled rows", COUNT))
            draw(out, Section("Columns that the mapping does not speak of", heads, over))
        words = tuple(
            (column, word, number, "refused" if column in answer.refused else "left out")
            for column, counted in sorted(answer.left_values.items())
            for word, number in sorted(counted.items())
        )
        if words:
            more_heads = (Column("column"), Column("value"), Column("rows", COUNT), Column("then"))
            draw(out, Section("Values that the mapping does not speak of", more_heads, words))
        for note in answer.notes:
            say(out, f"note: {note}")
