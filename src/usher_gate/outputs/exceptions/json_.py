"""The exceptions with what each covers today, as JSON (form exceptions-today/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.verdicts.result import ENDS_SOON_DAYS
from ..json_text import text, write_form
from ..render_options import RenderOptions
from .answer import ExceptionsAnswer, ExceptionToday


def _object(today: ExceptionToday) -> dict[str, Any]:
    row, agreed = today.row, today.agreed
    return {
        "exception": row.id,
        "state": row.state,
        "covers": row.covers,
        "until": row.until,
        "days_left": row.days_left,
        "rules": list(agreed.rules),
        "who": today.who,
        "services": list(agreed.services or ()) or None,
        "reason": agreed.reason,
        "approved_by": agreed.approved_by,
        "ends_soon": row.state != "expired" and row.days_left <= ENDS_SOON_DAYS,
    }


def write_exceptions_json(answer: ExceptionsAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Writes the answer as JSON."""
    entries = [text(_object(exception)) for exception in answer.today]
    write_form(stream, "exceptions-today/1", answer.result.snapshot, [], [("exceptions", entries)])
