"""Worksheets as .xlsx (ISO/IEC 29500): every cell is text and stays text, so that no spreadsheet takes any for a
formula or a number."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Sequence
from datetime import date, datetime, time
from typing import Any

from ..faults import UsherError

TYPE = "vnd.openxmlformats-officedocument.spreadsheetml.sheet"
_LARGEST = 64 * 1024 * 1024  # bytes of all that is packed, unpacked
_NARROWEST, _WIDEST = 10, 48  # letters


def _library() -> Any:
    try:
        import openpyxl
    except ImportError:
        raise UsherError(
            "worksheets as .xlsx need openpyxl; install it with: pip install 'usher-gate[guests]'"
        ) from None
    return openpyxl


def workbook(rows: Sequence[Sequence[str]], choices: Sequence[tuple[int, Sequence[str]]]) -> bytes:
    """Return a workbook of one sheet, the first row its header.

    `choices`: columns (from 0) whose cells a list of words is offered for.

    Raises UsherError where the library is missing.
    """
    openpyxl = _library()
    from openpyxl.styles import Font
    from openpyxl.utils import get_column_letter
    from openpyxl.worksheet.datavalidation import DataValidation

    book = openpyxl.Workbook()
    sheet = book.active
    sheet.freeze_panes = "A2"
    for number, row in enumerate(rows, 1):
        for place, text in enumerate(row, 1):
            cell = sheet.cell(number, place)
            if text:
                cell.value, cell.data_type = text, "s"  # whatever it looks like
            cell.number_format = "@"
            if number == 1:
                cell.font = Font(bold=True)
    for place, column in enumerate(zip(*rows, strict=True), 1):
        sheet.column_dimensions[get_column_letter(place)].width = min(max(_NARROWEST, *map(len, column)) + 2, _WIDEST)
    for place, words in choices:
        offered = DataValidation(type="list", formula1=f'"{",".join(words)}"', allow_blank=True)
        letter = get_column_letter(place + 1)
        offered.add(f"{letter}2:{letter}{max(len(rows), 2)}")
        sheet.add_data_validation(offered)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def sheets_of(data: bytes) -> list[list[list[str]]] | None:
    """Return the rows of each sheet as texts; None for what is no workbook, or one that is larger unpacked than any
    worksheet of ours.

    Raises UsherError where the library is missing.
    """
    openpyxl = _library()
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            if sum(entry.file_size for entry in packed.infolist()) > _LARGEST:
                return None
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        found = [
            [[_text(cell) for cell in row] for row in sheet.iter_rows(values_only=True)] for sheet in book.worksheets
        ]
        book.close()
    except (zipfile.BadZipFile, KeyError, ValueError, TypeError, IndexError, AttributeError, SyntaxError, EOFError):
        return None  # SyntaxError is what a damaged part raises: xml.etree.ElementTree.ParseError
    return found


def _text(value: Any) -> str:
    """Return a cell as it would be written by hand."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == time() else value.isoformat()
    if isinstance(value, date):
        return value.isoformat()
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)
