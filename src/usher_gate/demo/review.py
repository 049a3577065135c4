"""A review of Northmere's guests under way: of three reviewers one has answered, one in part, one not at all."""

from __future__ import annotations

import csv
import io
from datetime import date
from pathlib import Path

from ..core.guests.asking import ACCOUNT, ASKED, Asking
from ..core.guests.states import FINE, guests
from ..files.snapshot.folder import read_snapshot
from ..files.write import whole_file
from ..files.written.policy import read_policy
from ..files.written.worksheets import write_worksheets

ASKED_ON = date(2026, 11, 20)
# By guest and place: decision, until, note. What is not here is not answered.
ANSWERS = {
    ("N1218", ACCOUNT): ("keep", "2027-05-31", "until the refit is done"),
    ("N1219", ACCOUNT): ("end", "", "has left the yard"),
    ("N1220", ACCOUNT): ("keep", "", ""),
    ("N1221", ACCOUNT): ("Keep", "", ""),
    ("N1222", ACCOUNT): ("keep", "2027-01-31", ""),
    ("N1231", ACCOUNT): ("keep", "", "the new liaison"),
    ("N1231", "group:coastguard-liaison"): ("keep", "", ""),
    ("N1218", "group:shipyard"): ("keep", "", ""),
    ("N1219", "group:shipyard"): ("end", "", ""),
    ("N1220", "group:shipyard"): ("end", "", "works on another ship now"),
    ("N1221", "group:shipyard"): ("pass-on", "", "I do not know her"),
}


def write_review(folder: Path) -> None:
    """Writes the review of a working folder into its folder `review`, with the answers that have come."""
    snapshot = read_snapshot(folder / "snapshot").snapshot
    policy = read_policy(folder, snapshot)
    asked = [guest for guest in guests(snapshot, policy) if guest.states[0] != FINE]
    sent = write_worksheets(folder / "review", snapshot, policy, Asking(snapshot, policy).questions(asked), ASKED_ON)
    for name, _, _ in sent.sheets:
        path = folder / "review" / name
        head, *rows = csv.reader(io.StringIO(path.read_text("utf-8-sig"), newline=""))
        answered = [[*row[: len(ASKED)], *ANSWERS.get((row[1], row[5]), ("", "", "")), ""] for row in rows]
        out = io.StringIO()
        csv.writer(out, delimiter=";", lineterminator="\r\n").writerows((head, *answered))
        with whole_file(path) as stream:
            stream.write("\ufeff" + out.getvalue())
