"""The history as CSV: a row for each finding that became something; without --since a row for each check."""

from __future__ import annotations

import csv
from typing import TextIO

from ...core.history.intervals import MOVES
from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import HistoryAnswer

CHANGED = ("what", "rule", "service", "subject_type", "subject", "since", "age_days")
CHECKS = ("check", "taken_at", "people", "drifting_people", "drifts", *MOVES, "link")


def write_history_csv(answer: HistoryAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the rows."""
    writer = csv.writer(stream, lineterminator="\n")
    if answer.since is not None:
        _, now, changed = answer.since
        writer.writerow(CHANGED)
        for one in changed:
            days = str(answer.age(one.first, now))
            cells = (one.what, one.key.rule, one.key.service, one.key.type, one.key.id, answer.day(one.first), days)
            writer.writerow([for_spreadsheet(cell) for cell in cells])
        return
    writer.writerow(CHECKS)
    for step in answer.steps:
        made = step.data_point.changed
        people = step.counts.get(("people", ""), 0), step.counts.get(("drifting", ""), 0)
        moved = ("" if made is None else made.get(name, 0) for name in MOVES)
        writer.writerow(
            (step.check.number, step.check.time, *people, step.data_point.drifts, *moved, step.check.digests["link"])
        )
