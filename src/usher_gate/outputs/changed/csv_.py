"""What a file of changes would do, as CSV.

Each verdict that is other, each invitee and each lock-out that is new, a row.
"""

from __future__ import annotations

import csv
from collections.abc import Iterator
from typing import TextIO

from ...core.changes.compare import WORDS
from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from .answer import ChangedAnswer

COLUMNS = ("what", "rule", "service", "subject_type", "subject", "login", "from", "to")


def write_changed_csv(answer: ChangedAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes a row for everything that is other."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    for row in _rows(answer):
        writer.writerow([for_spreadsheet(cell) for cell in row])


def _rows(answer: ChangedAnswer) -> Iterator[tuple[str, ...]]:
    """Yield one row for each thing that the changes would move."""
    made = answer.comparison
    for what, moves in (("begun", made.begun), ("ended", made.ended), ("worse", made.worse)):
        for each in moves:
            yield what, each.rule, each.service or "", *each.subject, WORDS[each.before], WORDS[each.after]
    for new in made.meetings:
        lists = (
            ("turned-away", new.turned_away),
            ("waiting", new.waiting),
            ("walking-in", new.walking_in),
            ("need-account", new.need_account),
        )
        for what, addresses in lists:
            for address in addresses:
                yield what, "", new.meeting.service, "meeting", new.meeting.id, address, "", ""
    for what, locked in (("locked-out", made.locked_begun), ("no-longer-locked-out", made.locked_ended)):
        for out in locked:
            yield what, "", "", "person", out.person, "", "", out.resource
    for each_move in made.access:
        for person in each_move.people:
            yield f"sign-in-{each_move.what}", "", "", "person", person, "", "", each_move.resource
    for what, values in (("affected", made.affected), ("weaker", made.weaker), ("protected", made.protected)):
        for value in values:
            whose = value.person, value.login
            yield (
                what,
                value.rule,
                value.service,
                "person",
                *whose,
                *(f"{value.control} {one or 'not known'}" for one in (value.before, value.after)),
            )
    for resource, people in made.stranded:
        for person in people:
            yield "register-first", "", "", "person", person, "", "", resource
