"""The exceptions with what each covers today, as CSV."""

from __future__ import annotations

import csv
from typing import TextIO

from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import ExceptionsAnswer

COLUMNS = ("exception", "state", "covers", "until", "days_left", "rules", "who", "services", "reason", "approved_by")


def write_exceptions_csv(answer: ExceptionsAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes one row for each exception."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    for exception in answer.today:
        row, agreed = exception.row, exception.agreed
        writer.writerow(
            (
                for_spreadsheet(row.id),
                row.state,
                row.covers,
                row.until,
                row.days_left,  # may begin with a minus: it is a number
                for_spreadsheet(", ".join(agreed.rules)),
                for_spreadsheet(exception.who),
                for_spreadsheet(", ".join(agreed.services or ())),
                for_spreadsheet(agreed.reason),
                for_spreadsheet(agreed.approved_by),
            )
        )
