"""The exceptions with what each covers today: for a person, as JSON, as CSV."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from typing import TextIO

from ..core.verdicts.result import ENDS_SOON_DAYS, CheckResult, ExceptionRow
from ..core.verdicts.rules import AgreedException
from .digest import Section, left
from .interface import Look
from .json_ import text
from .safe import for_spreadsheet, for_terminal

_COLUMNS = ("exception", "state", "covers", "until", "days_left", "rules", "who", "services", "reason", "approved_by")


def _cells(row: ExceptionRow, each: AgreedException) -> list[str]:
    who = each.who.text if each.who is not None else "partner " + ", ".join(each.partners)
    return [
        row.id,
        row.state,
        str(row.covers),
        row.until,
        str(row.days_left),
        ", ".join(each.rules),
        who,
        ", ".join(each.services or ()),
        each.reason,
        each.approved_by,
    ]


def write_exceptions(
    result: CheckResult, exceptions: Sequence[AgreedException], form: str, stream: TextIO, look: Look
) -> None:
    """Writes one row for each exception: in force and idle ones by their end, expired ones last."""
    known = {each.id: each for each in exceptions}
    rows = sorted(result.exceptions, key=lambda row: (row.state == "expired", row.until, row.id))
    cells = [_cells(row, known[row.id]) for row in rows]
    if form == "json":
        entries = [
            text(
                {
                    **dict(zip(_COLUMNS, each, strict=True)),
                    "covers": row.covers,
                    "days_left": row.days_left,
                    "rules": list(known[row.id].rules),
                    "services": list(known[row.id].services or ()) or None,
                    "ends_soon": row.state != "expired" and row.days_left <= ENDS_SOON_DAYS,
                }
            )
            for row, each in zip(rows, cells, strict=True)
        ]
        stream.write('{"usher-gate": "exceptions-today/1", "exceptions": [\n  ' + ",\n  ".join(entries) + "\n]}\n")
        return
    if form == "csv":
        writer = csv.writer(stream, lineterminator="\n")
        writer.writerow(_COLUMNS)
        writer.writerows(
            [for_spreadsheet(cell) if number != 4 else cell for number, cell in enumerate(each)] for each in cells
        )
        return
    from .table import console, draw

    shown = tuple(
        (
            for_terminal(each[0]),
            row.state,
            each[2],
            f"{row.until} ({left(row.days_left)})",
            for_terminal(each[5]),
            for_terminal(each[6]),
            for_terminal(each[8]),
        )
        for row, each in zip(rows, cells, strict=True)
    )
    states = {state: sum(row.state == state for row in rows) for state in ("in-force", "idle", "expired")}
    title = f"{len(rows)} exceptions: " + ", ".join(f"{number} {state}" for state, number in states.items())
    with console(stream, look) as out:
        if not rows:
            out.print("No exception is agreed.")
            return
        draw(
            out,
            Section(
                title,
                (
                    ("exception", False),
                    ("state", False),
                    ("covers", True),
                    ("until", False),
                    ("from", False),
                    ("whom", False),
                    ("reason", False),
                ),
                shown,
            ),
        )
