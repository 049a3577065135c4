"""What one source would give, for a person."""

from __future__ import annotations

from dataclasses import replace
from typing import TextIO

from ...core.words.plural import plural
from ..drawing import console, draw, say
from ..render_options import RenderOptions
from ..section import COUNT, Column, Section, listed
from .attempt import AttemptAnswer

_SHOWN = 5  # rows of each table
_ROLES_SHOWN = 20


def _short(path: str) -> str:
    """Return the path of an attribute, without the name of the schema that extends a resource."""
    return f"urn:…:{path.rpartition(':')[2]}" if path.startswith("urn:") else path


def write_attempt(answer: AttemptAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes the first rows of each table, and what the mapping leaves over."""
    with console(stream, look) as out:
        say(out, f"{answer.source} ({answer.kind}) would give, and nothing was written:")
        for table, rows in sorted(answer.tables.items()):
            columns = sorted({column for row in rows for column in row})
            shown = tuple(tuple(row.get(column, "") for column in columns) for row in rows[:_SHOWN])
            if shown:
                more = f"and {len(rows) - _SHOWN:,} more" if len(rows) > _SHOWN else ""
                title = f"{table}: {plural(len(rows), 'row')}"
                draw(out, Section(title, tuple(Column(column) for column in columns), shown, more))
            else:
                say(out, "")
                say(out, f"{table}: no rows")
        for file, path in answer.files.items():
            say(out, f"{file}: {path}, as it is")
        if answer.mapped:
            heads = (Column("table"), Column("column"), Column("comes from"), Column("rows that have it", COUNT))
            mapped = tuple((table, column, _short(path), rows) for table, column, path, rows in answer.mapped)
            draw(out, Section("What was mapped", heads, mapped))
        if answer.roles:
            role_heads = (Column("role"), Column("people", COUNT), Column("known as"))
            roles = listed("", "Roles", role_heads, answer.roles, _ROLES_SHOWN)
            more = f"and {roles.left_out:,} more: as the column roles of people" if roles.left_out else ""
            draw(out, replace(roles, left_out=0, more=more))
        over = tuple(sorted(answer.left_columns.items()))
        if over:
            left_heads = (Column("column"), Column("filled rows", COUNT))
            draw(out, Section("Columns that the mapping does not speak of", left_heads, over))
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
