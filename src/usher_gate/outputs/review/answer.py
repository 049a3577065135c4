"""The answers of a review: what is shown."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from datetime import date

import numpy as np

from ...core.guests.deciding import Decided, ReviewOutcome
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record
from ...files.written.worksheets import ReadReview


@record
class ReviewAnswer:
    """A review read back on a day.

    Each row decided, what follows, where the changes were written ("" for nowhere), and notes.
    """

    snapshot: Snapshot
    read: ReadReview
    on: date
    decided: tuple[Decided, ...]
    outcome: ReviewOutcome
    written: str
    notes: tuple[str, ...]

    def login(self, name: str) -> str:
        """Return the login of someone by id; the id of people who has gone."""
        found = self.snapshot.people.ids.find(name)
        return self.snapshot.people.logins.take(np.array(found[:1]))[0] if found else name

    @property
    def fates(self) -> Mapping[str, int]:
        """Return how many rows there are of each fate."""
        return Counter(one.fate for one in self.decided)

    @property
    def reviewers(self) -> Mapping[str, tuple[int, int]]:
        """Return for each reviewer (by id) how many rows are answered, and how many there are."""
        asked = Counter(one.row.reviewer for one in self.decided)
        silent = Counter(
            one.row.reviewer for one in self.decided if one.fate in ("pending", "silence-ends", "silence-keeps")
        )
        return {name: (many - silent[name], many) for name, many in sorted(asked.items())}
