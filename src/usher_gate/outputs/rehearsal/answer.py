"""What a change would have done to sign-ins that happened: what is shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta

import numpy as np

from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.decide import OUTCOMES, OWN
from ...core.sign_in.lockout import Lockout
from ...core.sign_in.rehearsal import HARD, Rehearsal
from ...core.sign_in.replay import PARTNER, TriedRule
from ...core.words.record import record

FATES = tuple(OUTCOMES[fate] for fate in HARD)  # challenged, stuck, denied, unknown


@record
class UnusedEvents:
    """Events that could not be used: why, what stood there, how many, and the first place."""

    why: str
    value: str
    count: int
    place: str


@record
class RehearsalAnswer:
    """The counts, what was tried (`change` in words, and the rules that take part), and what could not be read."""

    snapshot: Snapshot
    change: str
    rules: Sequence[TriedRule]
    rehearsal: Rehearsal
    files: int
    read: int
    missed: tuple[UnusedEvents, ...]
    lockouts: tuple[Lockout, ...]
    spelled: Mapping[tuple[str, str], str]  # other words in the log, by column: what they were read as

    @property
    def readable(self) -> bool:
        """Return whether at least half of the events could be used."""
        return 2 * self.rehearsal.sign_ins >= self.read


def date(day: int) -> str:
    """Return a day as it is written."""
    return (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(days=day)).strftime("%Y-%m-%d")


def titles(answer: RehearsalAnswer) -> Mapping[str, str]:
    """Return what the rules that take part in the change are called."""
    found = {tried.rule.id: tried.rule.title for tried in answer.rules if tried.then}
    return {**found, OWN: "the person must show a second factor", PARTNER: "the partner's guests_in is off"}


def users(answer: RehearsalAnswer) -> list[str]:
    """Return the logins of the uses of break-glass accounts."""
    who = np.array([use.person for use in answer.rehearsal.uses], np.int64)
    return answer.snapshot.people.logins.take(who)


def logins(answer: RehearsalAnswer) -> list[str]:
    """Return the logins of the people who would be hurt."""
    return answer.snapshot.people.logins.take(np.array(answer.rehearsal.rows, np.int64))


def against(answer: RehearsalAnswer) -> list[str]:
    """Return the logins of the people who got in although the rules as they are would not have let them like that."""
    rows = np.array([each.row for each in answer.rehearsal.against], np.int64)
    return answer.snapshot.people.logins.take(rows)
