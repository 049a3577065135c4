"""The exceptions, with what each covers today."""

from __future__ import annotations

from collections.abc import Sequence
from operator import attrgetter

from ...core.verdicts.result import ENDS_SOON_DAYS, CheckResult, ExceptionRow
from ...core.verdicts.rules import AgreedException
from ...core.words.record import record
from ..fields import COUNT, DATE, INTEGER, SOME, TEXT, TRUTH, Field, enum, list_of, maybe, object_of
from ..writers import Result, Rows, head_of


@record
class ExceptionToday:
    """An exception, and what became of it."""

    row: ExceptionRow
    agreed: AgreedException

    @property
    def who(self) -> str:
        """Return the people it is for, in words."""
        return self.agreed.who.text if self.agreed.who is not None else "partner " + ", ".join(self.agreed.partners)

    @property
    def ends_soon(self) -> bool:
        """Return whether it ends within the days of which people are warned."""
        return self.row.state != "expired" and self.row.days_left <= ENDS_SOON_DAYS


@record
class ExceptionsAnswer:
    """All exceptions, and the check that says what they cover."""

    result: CheckResult
    exceptions: Sequence[AgreedException]

    @property
    def today(self) -> list[ExceptionToday]:
        """In force and idle ones by their end, expired ones last."""
        known = {exception.id: exception for exception in self.exceptions}
        rows = sorted(self.result.exceptions, key=lambda row: (row.state == "expired", row.until, row.id))
        return [ExceptionToday(row, known[row.id]) for row in rows]


EXCEPTION_STATES = ("in-force", "idle", "expired")
_ENTRY = (
    Field("exception", TEXT, "The id of the exception.", "row.id"),
    Field("state", enum(EXCEPTION_STATES), "Whether it covers something, nothing, or has ended.", "row.state"),
    Field("covers", COUNT, "How many verdicts it covers today.", "row.covers"),
    Field("until", DATE, "Its last day.", "row.until"),
    Field("days_left", INTEGER, "How many days are left; negative once it has ended.", "row.days_left"),
    Field("rules", SOME, "The rules from which it excepts.", "agreed.rules"),
    Field("who", TEXT, "The people it is for, in words."),
    Field(
        "services",
        maybe(SOME),
        "The services it is for; null for all.",
        lambda today: list(today.agreed.services or ()),
    ),
    Field("reason", TEXT, "Why it was agreed.", "agreed.reason"),
    Field("approved_by", TEXT, "Who approved it.", "agreed.approved_by"),
)
_ENDS_SOON = Field("ends_soon", TRUTH, f"True if it ends within {ENDS_SOON_DAYS} days.")
EXCEPTIONS = Result(
    schema="exceptions-today/1",
    says="The exceptions that were agreed, and what each covers today.",
    lists=(
        Field(
            "exceptions", list_of(object_of((*_ENTRY, _ENDS_SOON))), "Each exception, the next to end first.", "today"
        ),
    ),
    csv=(Rows("`exceptions`: a row for each exception", _ENTRY, attrgetter("today")),),
    head=lambda answer: head_of(answer.result.snapshot),
)
