"""Guests and who has to be asked: what is shown."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ...core.guests.asking import ReviewRow
from ...core.guests.policy import Policy
from ...core.guests.states import Guest
from ...core.organisation.columns import MISSING
from ...core.organisation.snapshot import Snapshot
from ...core.words.record import record
from ...files.written.worksheets import Sent


@record
class GuestsAnswer:
    """The guests that are listed, the worst first; what would be asked about them (or was: `sent`).

    The policy, and notes.
    """

    snapshot: Snapshot
    policy: Policy
    guests: tuple[Guest, ...]
    questions: tuple[ReviewRow, ...]
    sent: Sent | None
    notes: tuple[str, ...]

    def asked(self) -> Mapping[int, list[ReviewRow]]:
        """Return the rows by who is asked, the reviewer with most first; MISSING for no one, last."""
        found: dict[int, list[ReviewRow]] = {}
        for question in self.questions:
            found.setdefault(question.reviewer, []).append(question)
        ranked = sorted(found, key=lambda one: (one == MISSING, -len(found[one]), one))
        return {one: found[one] for one in ranked}

    @property
    def nobody(self) -> list[int]:
        """Return the guests that no one can be asked about, at some place."""
        return sorted({question.guest for question in self.questions if question.reviewer == MISSING})

    def ids(self, people: list[int]) -> list[str]:
        """Return people by id."""
        return self.snapshot.people.ids.take(np.array(people, np.int64)) if people else []

    def logins(self, people: list[int]) -> list[str]:
        """Return people by login."""
        return self.snapshot.people.logins.take(np.array(people, np.int64)) if people else []

    def domain(self, guest: int) -> str:
        """Return where a guest comes from; "" where that is not known."""
        domains = self.snapshot.guest_domains
        code = int(domains.codes[guest])
        return "" if code == MISSING else domains.words[code]

    def sponsor(self, guest: int) -> int:
        """Return who answers for a guest's account; MISSING for no one."""
        sponsors = self.snapshot.people.sponsors
        return MISSING if sponsors is None else int(sponsors[guest])
