"""Who would be hurt by a change, as CSV."""

from __future__ import annotations

import csv
from typing import TextIO

from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import FATES, RehearsalAnswer, logins


def write_rehearsal_csv(answer: RehearsalAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a row for each person who would be hurt."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(("person", "login", *FATES))
    people = answer.rehearsal.people
    for hurt, login in zip(people, logins(answer), strict=True):
        writer.writerow((for_spreadsheet(hurt.name), for_spreadsheet(login), *hurt.sign_ins))
