"""The fewest changes that mend: what is told."""

from __future__ import annotations

from ...core.mend.mending import Mending
from ...core.mend.sign_in_side import Suggestion
from ...core.words.record import record


@record
class Suggested:
    """One edit of an access rule that closes a hole; `stopped` says how many sign-ins of the log that got in it would have denied or left
    stuck, and of how many people (None: there is no log). `recommended` with `because` where it is not."""

    suggestion: Suggestion
    stopped: tuple[int, int] | None
    recommended: bool
    because: str


@record
class MendAnswer:
    """The plan, and what is suggested on the sign-in side; `written` is where the plan was written ("" for nowhere)."""

    mending: Mending
    suggested: tuple[Suggested, ...]
    written: str
    notes: tuple[str, ...]
