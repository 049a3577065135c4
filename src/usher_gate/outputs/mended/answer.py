"""The fewest changes that mend: what is shown."""

from __future__ import annotations

from ...core.mend.mending import MendingResult
from ...core.mend.sign_in_side import Repair, RulePlan
from ...core.words.record import record


@record
class Suggested:
    """Describes what ends a lock-out or closes a hole.

    The best plans, each with how many sign-ins of the log that got in it would have denied or left stuck, and of how
    many people (None: there is no log, or no time to read it).
    """

    repair: Repair
    plans: tuple[tuple[RulePlan, tuple[int, int] | None], ...]


@record
class MendAnswer:
    """The plan, and what is suggested on the sign-in side; `written` is where the plan was written ("" for nowhere)."""

    mending: MendingResult
    suggested: tuple[Suggested, ...]
    written: str
    notes: tuple[str, ...]
