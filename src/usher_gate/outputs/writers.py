"""Writes any declared result as JSON and as CSV, and makes its JSON Schema."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterable, Mapping
from typing import Any, TextIO

from ..core.organisation.snapshot import Snapshot
from ..core.words.plural import truth_word
from ..core.words.record import record, record_by_name
from ..files import schema_parts as parts
from ..files.schema_parts import Schema
from .fields import ABSENT, Field, reader_of, schema_of
from .json_text import text
from .safe import for_spreadsheet


@record
class Rows:
    """The rows of a result as CSV: its columns, and what they are read from (`ready`: rows of cells already)."""

    says: str  # the call, and what a row is
    columns: tuple[Field, ...]
    of: Callable[[Any], Iterable[Any] | None]
    ready: bool = False


@record_by_name
class Result:
    """The declaration of a result.

    `lines` are the fields of the JSON, those of one entry on one line (the first beside organisation and time); `lists`
    follow, an entry a line. `pieces` writes a long list faster than its fields are read one by one.
    """

    schema: str  # such as guests/1
    says: str  # what the result answers
    lines: tuple[tuple[Field, ...], ...] = ()
    lists: tuple[Field, ...] = ()
    csv: tuple[Rows, ...] = ()  # the first whose rows are there (not None)
    head: Callable[[Any], tuple[str, str] | None] = lambda answer: head_of(answer.snapshot)
    needs_snapshot: bool = True  # else organisation and time may be null
    pieces: Mapping[str, Callable[[Any], Iterable[str]]] = {}

    @property
    def fields(self) -> tuple[Field, ...]:
        """Return all fields of the JSON, in their order, without the head."""
        return (*(field for line in self.lines for field in line), *self.lists)


def head_of(snapshot: Snapshot | None) -> tuple[str, str] | None:
    """Return the organisation and the time of a snapshot, for the head of a result."""
    return None if snapshot is None else (snapshot.name, snapshot.taken_text)


def schema(result: Result) -> Schema:
    """Return the JSON Schema of a result."""
    name, time = parts.TEXT, parts.TIME
    if not result.needs_snapshot:
        name, time = parts.nullable(name), parts.nullable(time)
    head = {
        "usher-gate": {"const": result.schema},
        "organisation": {**name, "description": "The organisation's name."},
        "taken_at": {**time, "description": "When the snapshot was taken."},
    }
    made = schema_of(result.fields)
    made |= {"properties": head | made["properties"], "required": [*head, *made["required"]]}
    return {"$schema": parts.DIALECT, "title": result.schema, "description": result.says, **made}


def body(result: Result, answer: Any) -> dict[str, Any]:
    """Return a result as JSON without its head, to be a part of another."""
    return reader_of(result.fields)(answer)


def write_json(result: Result, answer: Any, stream: TextIO) -> None:
    """Writes a result as one object."""
    head = dict(zip(("organisation", "taken_at"), result.head(answer) or (None, None), strict=True))
    first, *rest = result.lines or ((),)
    stream.write(f'{{"usher-gate": {text(result.schema)}')
    for line in (head | reader_of(first)(answer), *(reader_of(fields)(answer) for fields in rest)):
        stream.write(f",\n {text(line)[1:-1]}" if line else "")
    for field in result.lists:
        entries = result.pieces[field.name](answer) if field.name in result.pieces else _entries(field, answer)
        if entries is None:
            continue
        stream.write(f',\n "{field.name}": [')
        before = "\n  "
        for entry in entries:
            stream.write(before + entry)
            before = ",\n  "
        stream.write("]" if before == "\n  " else "\n ]")
    stream.write("}\n")


def _entries(field: Field, answer: Any) -> Iterable[str] | None:
    """Return the entries of a list as JSON; None where the field is left out."""
    values = field.reader(answer)
    if values is ABSENT:
        return None
    return map(text, values if field.type.convert is None else field.type.convert(values))


def write_csv(result: Result, answer: Any, stream: TextIO) -> None:
    """Writes a row for each thing that the result lists."""
    declared, rows = next((each, found) for each in result.csv if (found := each.of(answer)) is not None)
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow([column.name for column in declared.columns])
    if declared.ready:
        writer.writerows(rows)
        return
    steps = [(column.reader, column.type.convert) for column in declared.columns]
    for thing in rows:
        values = ((read(thing), convert) for read, convert in steps)
        writer.writerow([_cell(value if convert is None else convert(value)) for value, convert in values])


def _cell(value: Any) -> str | int | float:
    """Return a value of JSON as a cell: a list joined by `; `, no value as nothing."""
    if value is None or value is ABSENT:
        return ""
    if isinstance(value, bool):
        return truth_word(value)
    if isinstance(value, (list, tuple)):
        value = "; ".join(value)
    return for_spreadsheet(value) if isinstance(value, str) else value
