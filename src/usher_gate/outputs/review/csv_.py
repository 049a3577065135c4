"""The answers of a review as CSV: a row for each that was asked."""

from __future__ import annotations

import csv
from typing import TextIO

from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import ReviewAnswer

COLUMNS = ("guest", "place", "reviewer", "decision", "until", "note", "where", "others")


def write_review_csv(answer: ReviewAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a row for each row that was asked."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    for one in answer.decided:
        until = "" if one.until is None else one.until.isoformat()
        cells = (
            one.row.guest,
            one.row.place,
            one.row.reviewer,
            one.fate,
            until,
            one.note,
            one.where,
            " ".join(one.others),
        )
        writer.writerow([for_spreadsheet(cell) for cell in cells])
