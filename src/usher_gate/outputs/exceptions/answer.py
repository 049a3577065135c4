"""The exceptions with what each covers today: what is shown."""

from __future__ import annotations

from collections.abc import Sequence

from ...core.verdicts.result import CheckResult, ExceptionRow
from ...core.verdicts.rules import AgreedException
from ...core.words.record import record


@record
class ExceptionToday:
    """An exception, and what became of it."""

    row: ExceptionRow
    agreed: AgreedException

    @property
    def who(self) -> str:
        """Return the people it is for, in words."""
        return self.agreed.who.text if self.agreed.who is not None else "partner " + ", ".join(self.agreed.partners)


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
