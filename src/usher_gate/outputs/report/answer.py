"""The report: what it is made of."""

from __future__ import annotations

from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import AgreedException
from ...core.words.record import record
from ..results.door import DoorAnswer
from ..results.guests import GuestsAnswer
from ..results.history import HistoryAnswer
from ..results.holes import HolesAnswer


@record
class Plan:
    """A plan that was given: what it says in one sentence, and each of its changes in words."""

    first: str
    changes: tuple[str, ...]


@record
class ReportAnswer:
    """A check and what goes with it.

    None for what is not known or was not asked: checks kept before, doors, ways in past a requirement, guests, a plan.
    `exceptions` are those agreed, with their reasons. `part` is None for the whole organisation; else it is what the
    page is about, and separates what its head can do from what others have to do.
    """

    title: str
    result: CheckResult
    history: HistoryAnswer | None
    doors: DoorAnswer | None
    holes: HolesAnswer | None
    guests: GuestsAnswer | None
    plan: Plan | None
    exceptions: tuple[AgreedException, ...]
    part: str | None = None
