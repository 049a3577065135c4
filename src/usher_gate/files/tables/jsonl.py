"""JSON Lines tables: one object a line, decoded by type."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from ..faults import Faults, nearest, quoted
from ..yamltree import read_bytes
from .csv_ import LARGEST
from .interface import FLAG, LIST, TEXT, TIME, VALUE, WHOLE, Spec, Table
from .listcolumn import ListColumn

_TYPES: dict[str, Any] = {
    TEXT: str,
    TIME: str,
    FLAG: bool,
    WHOLE: int,
    LIST: list[str] | str,
    VALUE: str | int | float | list[str],
}
_DUE = {
    TEXT: "a text in quotes",
    TIME: 'a time in quotes, such as "2026-11-20T06:00:00Z"',
    FLAG: "true or false (no quotes)",
    WHOLE: "a whole number (no quotes)",
    LIST: 'a list of texts, such as ["one", "two"]',
    VALUE: "a text, a number or a list of texts",
}
_CHUNK = 16 * 1024 * 1024
_KEY = re.compile(rb'"(attr\.[^"\\]+|x\.[^"\\]+)"\s*:')


def read_jsonl(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """A JSON Lines table; None, with faults, where it cannot be used."""
    data = read_bytes(path, shown, faults, LARGEST)
    if data is None:
        return None
    data = data.removeprefix(b"\xef\xbb\xbf")
    if not data.strip():
        if data and not faults.found:
            return _table(spec, shown, data, {}, 0)
        faults.add(shown, 1, f"is empty; write one object a line, each with {', '.join(spec.required)}")
        return None
    names = _names(data, spec)
    row_type = _row_type(spec, names)
    decoder = msgspec.json.Decoder(row_type)
    columns: dict[str, list[Any]] = {name: [] for name in names}
    try:
        for chunk in _chunks(data):
            rows = decoder.decode_lines(chunk)
            for number, name in enumerate(names):
                if not name.startswith("x."):
                    field = f"c{number}"
                    columns[name] += [getattr(row, field) for row in rows]
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        _find_faults(data, shown, spec, faults)
        return None
    rows_read = max((len(values) for values in columns.values()), default=0)
    there = {name: values for name, values in columns.items() if values.count(msgspec.UNSET) < len(values)}
    quiet = Faults()
    spec.check_columns(list(there), shown, 1, quiet)
    if quiet.found:
        _find_faults(data, shown, spec, faults)
        return None
    return _table(
        spec,
        shown,
        data,
        {name: ListColumn(_plain(values, spec.type_of(name))) for name, values in there.items()},
        rows_read,
    )


def _table(spec: Spec, shown: str, data: bytes, columns: dict[str, ListColumn], rows: int) -> Table:
    @cache
    def lines() -> list[int]:
        return [number for number, line in enumerate(data.split(b"\n"), 1) if line.strip()]

    return Table(spec, shown, rows, columns, lambda row: lines()[row])


def _names(data: bytes, spec: Spec) -> list[str]:
    """All columns that the rows may have: the known ones, and those beginning with attr. or x. that appear anywhere."""
    names = [*spec.required, *spec.optional]
    if b'"attr.' in data or b'"x.' in data:
        names += sorted({key.decode("utf-8", "replace") for key in _KEY.findall(data)} - set(names))
    return [name for name in names if spec.knows(name)]


def _row_type(spec: Spec, names: Sequence[str]) -> Any:
    fields = [
        (
            f"c{number}",
            _TYPES[spec.type_of(name)] | None | msgspec.UnsetType if not name.startswith("x.") else Any,
            msgspec.UNSET,
        )
        for number, name in enumerate(names)
    ]
    rename = {f"c{number}": name for number, name in enumerate(names)}
    return msgspec.defstruct("Row", fields, rename=rename, forbid_unknown_fields=True, gc=False)


def _chunks(data: bytes) -> Sequence[bytes]:
    """The text in pieces that end with a line."""
    pieces, start = [], 0
    while start < len(data):
        end = data.find(b"\n", min(start + _CHUNK, len(data)))
        end = len(data) if end < 0 else end + 1
        pieces.append(data[start:end])
        start = end
    return pieces


def _plain(values: list[Any], kind: str) -> list[str | None]:
    """Cells as texts."""
    if kind in (TEXT, TIME):
        return [None if value is msgspec.UNSET else value for value in values] if msgspec.UNSET in values else values
    if kind == FLAG:
        words: dict[Any, str | None] = {True: "true", False: "false", None: None, msgspec.UNSET: None}
        return [words[value] for value in values]
    return [_cell(value) for value in values]


def _cell(value: Any) -> str | None:
    if value is None or value is msgspec.UNSET:
        return None
    return ";".join(value) if isinstance(value, list) else str(value)


def _find_faults(data: bytes, shown: str, spec: Spec, faults: Faults) -> None:
    """Reads line by line and names everything that is wrong."""
    seen: dict[str, int] = {}
    for line, raw in enumerate(data.split(b"\n"), 1):
        if not raw.strip():
            continue
        try:
            row = msgspec.json.decode(raw)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            faults.add(shown, line, f"is not JSON ({error}); write one object a line")
            continue
        if not isinstance(row, dict):
            faults.add(shown, line, 'holds no object; write one {"column": value, …} a line')
            continue
        for name, value in row.items():
            if not spec.knows(name):
                faults.add(
                    shown,
                    line,
                    f"unknown column {quoted(name)}; {nearest(name, (*spec.required, *spec.optional))} "
                    "(columns of your own begin with x.)",
                )
                continue
            seen.setdefault(name, line)
            if not name.startswith("x.") and not _fits(value, spec.type_of(name)):
                faults.add(
                    shown,
                    line,
                    f"{name}: {quoted(msgspec.json.encode(value).decode())} is not {_DUE[spec.type_of(name)]}",
                )
    for name in spec.required:
        if name not in seen:
            faults.add(shown, 1, f"the column {name} is missing; {spec.name} needs {', '.join(spec.required)}")


def _fits(value: Any, kind: str) -> bool:
    if value is None:
        return True
    if isinstance(value, bool):
        return kind == FLAG
    if isinstance(value, list):
        return kind in (LIST, VALUE) and all(isinstance(each, str) for each in value)
    if isinstance(value, str):
        return kind in (TEXT, TIME, LIST, VALUE)
    return isinstance(value, int | float) and (kind == VALUE or (kind == WHOLE and isinstance(value, int)))
