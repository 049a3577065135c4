"""JSON Lines tables, one object a line: large files by Arrow.

Small ones, and whatever Arrow stumbles over, by the careful reader.
"""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from ...core.organisation.build.listcolumn import ListColumn
from ...core.organisation.build.table import FLAG, LIST, TEXT, TIME, VALUE, WHOLE, Spec, Table
from ...core.words.faults import Faults, nearest, quoted
from ..binary import LARGEST_TABLE, read_bytes
from ..jsoncells import cell_text
from .csv_ import SMALL

_DUE = {
    TEXT: "a text in quotes",
    TIME: 'a time in quotes, such as "2026-11-20T06:00:00Z"',
    FLAG: "true or false (no quotes)",
    WHOLE: "a whole number (no quotes)",
    LIST: 'a list of texts, such as ["one", "two"]',
    VALUE: "a text, a number or a list of texts",
}
_ATTRIBUTE = re.compile(rb'"(attr\.[^"\\]+)"\s*:')


def read_jsonl(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """Return a JSON Lines table; None, with faults, where it cannot be used."""
    data = read_bytes(path, shown, faults, LARGEST_TABLE)
    if data is None:
        return None
    data = data.removeprefix(b"\xef\xbb\xbf")
    if len(data) >= SMALL:
        table = _read_large(data, shown, spec)
        if table is not None:
            return table
    return _read_carefully(data, shown, spec, faults)


def _read_carefully(data: bytes, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """Read JSON Lines row by row, so that each fault has its line; None after reporting one."""
    rows: list[dict[str, Any]] = []
    lines: list[int] = []
    names: dict[str, None] = {}
    before = len(faults.found)
    for line, raw in enumerate(data.split(b"\n"), 1):
        if not raw.strip():
            continue
        row = _row(raw, line, shown, faults)
        if row is None:
            continue
        for name, value in row.items():
            if not spec.knows(name):
                faults.add(
                    shown,
                    line,
                    f"unknown column {quoted(name)}; {nearest(name, (*spec.required, *spec.optional))} (columns of "
                    "your own begin with x.)",
                )
            elif not name.startswith("x.") and not _fits(value, spec.type_of(name)):
                faults.add(shown, line, f"{name}: {quoted(json.dumps(value))} is not {_DUE[spec.type_of(name)]}")
        names.update(dict.fromkeys(row))
        rows.append(row)
        lines.append(line)
    if len(faults.found) > before:
        return None
    if not rows:
        faults.add(shown, 1, f"is empty; write one object a line, each with {', '.join(spec.required)}")
        return None
    for name in spec.required:
        if name not in names:
            faults.add(shown, 1, f"the column {name} is missing; {spec.name} needs {', '.join(spec.required)}")
    if len(faults.found) > before:
        return None
    columns = {
        name: ListColumn([cell_text(row.get(name)) for row in rows]) for name in names if not name.startswith("x.")
    }
    return Table(spec=spec, file=shown, rows=len(rows), columns=columns, line_of=lines.__getitem__)


def _row(raw: bytes, line: int, shown: str, faults: Faults) -> dict[str, Any] | None:
    """Return the object on a line; None, with a fault, where there is none."""
    try:
        text = raw.decode("utf-8")
        row = json.loads(text, object_pairs_hook=_once, parse_constant=_no_constant)
        if "\\u" in text:
            json.dumps(row, ensure_ascii=False).encode("utf-8")  # half a surrogate pair is no text
    except UnicodeError:
        faults.add(shown, line, "is not UTF-8 text; save it as UTF-8")
    except RecursionError:
        faults.add(shown, line, "nests too deeply; nothing here needs that")
    except ValueError as error:
        faults.add(shown, line, f"is not JSON ({str(error).split(':')[0]}); write one object a line")
    else:
        if isinstance(row, dict):
            return row
        faults.add(shown, line, 'holds no object; write one {"column": value, …} a line')
    return None


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    made = dict(pairs)
    if len(made) < len(pairs):
        raise ValueError("a key occurs twice in one object")
    return made


def _no_constant(name: str) -> Any:
    raise ValueError(f"{name} is no JSON number")


def _fits(value: Any, kind: str) -> bool:
    if value is None:
        return True
    if isinstance(value, bool):
        return kind == FLAG
    if isinstance(value, list):
        return kind in (LIST, VALUE) and all(isinstance(item, str) for item in value)
    if isinstance(value, str):
        return kind in (TEXT, TIME, LIST, VALUE)
    return isinstance(value, int | float) and (kind == VALUE or (kind == WHOLE and isinstance(value, int)))


def _read_large(data: bytes, shown: str, spec: Spec) -> Table | None:
    """Return the same by Arrow; None wherever anything at all is out of the ordinary."""
    import pyarrow as pa
    import pyarrow.compute as pc
    import pyarrow.json as pajson

    from .arrowcolumn import ArrowColumn

    if b'"x.' in data or b"\\u" in data:
        return None
    types = {FLAG: pa.bool_(), WHOLE: pa.int64(), LIST: pa.list_(pa.string())}
    names = [*spec.required, *spec.optional]
    if b'"attr.' in data:
        names += sorted({key.decode("utf-8", "replace") for key in _ATTRIBUTE.findall(data)})
    schema = pa.schema([(name, types.get(spec.type_of(name), pa.string())) for name in names])
    try:
        table = pajson.read_json(
            pa.BufferReader(data),
            parse_options=pajson.ParseOptions(explicit_schema=schema, unexpected_field_behavior="error"),
        )
        columns = {}
        for name in names:
            array = table[name].combine_chunks()
            if array.null_count == len(array):
                if name in spec.required or f'"{name}"'.encode() in data:
                    return None
                continue
            if pa.types.is_list(array.type):
                if array.flatten().null_count:  # null is no text, and would leave nothing of the list
                    return None
                array = pc.binary_join(array, ";")
            columns[name] = ArrowColumn(array if pa.types.is_string(array.type) else array.cast(pa.string()))
    except (pa.ArrowException, OSError, ValueError):
        return None
    # To Arrow two objects on a line, or one on two, are as good as others.
    end = len(data.rstrip())
    lines, begun = data.count(b"\n", 0, end) + 1, data.count(b"\n{", 0, end) + data.startswith(b"{")
    if not table.num_rows == lines == begun:
        return None
    return Table(spec=spec, file=shown, rows=table.num_rows, columns=columns, line_of=lambda row: row + 1)
