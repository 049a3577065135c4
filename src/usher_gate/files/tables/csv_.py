"""CSV (RFC 4180) tables: large files by Arrow; small ones, and whatever Arrow stumbles over, by the careful reader.

The careful reader finds every fault and its line; Arrow is only believed where nothing is wrong.
"""

from __future__ import annotations

import csv
import io
import re
from functools import cache
from pathlib import Path

from ...core.organisation.build.listcolumn import ListColumn
from ...core.organisation.build.table import Spec, Table
from ...core.words.faults import Faults
from ..binary import LARGEST_TABLE, read_bytes, read_text

SMALL = 2 * 1024 * 1024
# A cell in quotes that goes on after them, or has no end: Arrow would make something of it, RFC 4180 does not. What
# comes before the first quote is looked at after it: so the search goes from quote to quote, and not over every byte.
_ODD_QUOTE = re.compile(rb'"(?<![^,\r\n]")[^"]*(?:""[^"]*)*(?:"(?![,\r\n"]|\Z)|\Z)')


_OTHER_DELIMITERS = {";": "semicolons", "\t": "tabs", "|": "bars"}


def other_delimiter(header: str) -> tuple[str, str] | None:
    """Return what separates the cells of a first line that holds no comma (as it is written, and in words).

    None for nothing that is known.
    """
    for sign, word in _OTHER_DELIMITERS.items():
        if sign in header:
            return "'\\t'" if sign == "\t" else f"'{sign}'", word
    return None


def read_csv(path: Path, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """Return a CSV table; None, with faults, where it cannot be used."""
    data = read_bytes(path, shown, faults, LARGEST_TABLE)
    if data is None:
        return None
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        faults.add(shown, 1, "is UTF-16 text; save it as UTF-8")
        return None
    if b"\0" in data:
        faults.add(shown, data.count(b"\n", 0, data.index(b"\0")) + 1, "holds a NUL byte; save it as UTF-8 text")
        return None
    if len(data) >= SMALL and data.count(b'"') % 2 == 0 and _ODD_QUOTE.search(data) is None:
        table = _read_large(data, shown, spec, path)
        if table is not None:
            return table
    return _read_carefully(data, shown, spec, faults)


def _text(data: bytes, shown: str, faults: Faults) -> str | None:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        faults.add(shown, data.count(b"\n", 0, error.start) + 1, "is not UTF-8 text; save it as UTF-8")
        return None


def _read_carefully(data: bytes, shown: str, spec: Spec, faults: Faults) -> Table | None:
    """Read a CSV line by line, so that each fault has its line; None after reporting one."""
    text = _text(data, shown, faults)
    if text is None:
        return None
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    lines: list[int] = []
    rows: list[list[str]] = []
    begin = 1
    try:
        for row in reader:
            if row:
                rows.append(row)
                lines.append(begin)
            begin = reader.line_num + 1
    except csv.Error as error:
        faults.add(
            shown,
            begin,
            f"is not CSV here ({error}); check the quotes, and that no cell is longer than "
            f"{csv.field_size_limit() // 1024} KiB",
        )
        return None
    if not rows:
        faults.add(shown, 1, f"is empty; begin with a line of columns: {','.join(spec.required)}")
        return None
    header, body = rows[0], rows[1:]
    before = len(faults.found)
    if len(header) == 1 and (other := other_delimiter(header[0])) is not None:
        faults.add(shown, lines[0], f"its cells are separated by {other[1]}; save it with commas (RFC 4180)")
        return None
    spec.check_columns(header, shown, lines[0], faults)
    for row, line in zip(body, lines[1:], strict=True):
        if len(row) != len(header):
            faults.add(
                shown,
                line,
                f"has {len(row)} cells where the first line has {len(header)}; "
                "put cells that hold a comma in double quotes",
            )
    if len(faults.found) > before:
        return None
    cells = list(zip(*body, strict=True)) if body else [()] * len(header)
    columns = {name: ListColumn(cells[number]) for number, name in enumerate(header)}
    return Table(spec=spec, file=shown, rows=len(body), columns=columns, line_of=lines[1:].__getitem__)


def _read_large(data: bytes, shown: str, spec: Spec, path: Path) -> Table | None:
    """Return the same by Arrow; None wherever anything at all is out of the ordinary."""
    import pyarrow as pa
    import pyarrow.csv as pacsv

    from .arrowcolumn import ArrowColumn

    end = data.find(b"\n")
    try:
        header = next(csv.reader([data[:end].decode("utf-8-sig").rstrip("\r")], strict=True), [])
        quiet = Faults()
        spec.check_columns(header, shown, 1, quiet)
        if quiet.found or data.count(b'"', 0, end) % 2:
            return None
        table = pacsv.read_csv(
            pa.BufferReader(data),
            read_options=pacsv.ReadOptions(column_names=header, skip_rows=1),
            parse_options=pacsv.ParseOptions(newlines_in_values=data.find(b'"', end) >= 0),
            convert_options=pacsv.ConvertOptions(
                column_types=dict.fromkeys(header, pa.string()),
                null_values=[""],
                strings_can_be_null=True,
                include_columns=[name for name in header if not name.startswith("x.")],
            ),
        )
    except (pa.ArrowException, UnicodeDecodeError, csv.Error, OSError):
        return None

    @cache
    def lines() -> list[int]:
        reader = csv.reader(io.StringIO(read_text(path, LARGEST_TABLE), newline=""), strict=True)
        found, begin = [], 1
        for row in reader:
            if row:
                found.append(begin)
            begin = reader.line_num + 1
        return found[1:]

    return Table(
        spec=spec,
        file=shown,
        rows=table.num_rows,
        columns={name: ArrowColumn(table[name]) for name in table.column_names},
        line_of=lambda row: lines()[row],
    )
