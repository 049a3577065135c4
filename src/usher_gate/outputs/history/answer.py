"""The history: what is shown."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from ...core.history.intervals import Changed, Interval, IntervalKey, ReviewDecision
from ...core.history.trend import DataPoint
from ...core.organisation.columns import DAY
from ...core.verdicts.outcome import Root
from ...core.words.record import record
from ...files.history.store import Check

Counts = Mapping[tuple[str, str], int]


@record
class HistoryStep:
    """One check: what else was counted of it, and what drifted beside the check before."""

    check: Check
    counts: Counts
    data_point: DataPoint


@record
class RootMoved:
    """A cause of drift, and how many findings came from it then and now."""

    root: Root
    then: int
    now: int


@record
class Known:
    """Describes what the present snapshot says of people, by id.

    Their login and the path of their unit ("" for none).
    """

    logins: Mapping[str, str]
    units: Mapping[str, str]


@record
class HistoryAnswer:
    """Every kept check in order.

    With `since` what became of everything between two of them, and the causes that moved (none if only a part is
    shown); with `person` that person's intervals; `known` where there is a snapshot to ask.
    """

    steps: tuple[HistoryStep, ...]
    since: tuple[Check, Check, tuple[Changed, ...]] | None = None
    person: tuple[str, tuple[Interval, ...]] | None = None
    notes: tuple[str, ...] = ()
    roots: tuple[RootMoved, ...] = ()
    known: Known | None = None
    decisions: tuple[ReviewDecision, ...] = ()  # what reviews of guests decided about the person
    part: str = ""  # what `since` was narrowed to, in words

    def whose(self, key: IntervalKey) -> str:
        """Return the subject of a verdict, named by login if it is known."""
        return key.id if self.known is None or key.type != "person" else self.known.logins.get(key.id, key.id)

    def day(self, number: int) -> str:
        """Return the day (YYYY-MM-DD, UTC) of a check by its number; ? for one that is not there."""
        return next((step.check.time[:10] for step in self.steps if step.check.number == number), "?")

    def age(self, first: int, now: Check) -> int:
        """Return the age in whole days of a interval at a check."""
        began = next(step.check.taken_at for step in self.steps if step.check.number == first)
        return int((now.taken_at - began) // DAY)


def what_changed(changed: Sequence[Changed]) -> Mapping[str, int]:
    """Return how many drifts became what."""
    return Counter(one.what for one in changed)
