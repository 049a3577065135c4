"""The exceptions with what each covers today, for a person."""

from __future__ import annotations

from typing import TextIO

from ...core.words.plural import plural
from ..drawing import console, draw, say
from ..render_options import RenderOptions
from ..section import COUNT, DATE, WHOLE, WORD, Column, Section, left
from .exceptions import ExceptionsAnswer

_COLUMNS = (
    Column("exception", WHOLE),
    Column("state", WORD),
    Column("covers", COUNT),
    Column("until", DATE),
    Column("from"),
    Column("for"),
    Column("reason"),
)


def write_exceptions(answer: ExceptionsAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes one row for each exception."""
    today = answer.today
    rows = tuple(
        (
            exception.row.id,
            exception.row.state,
            exception.row.covers,
            f"{exception.row.until} ({left(exception.row.days_left)})",
            ", ".join(exception.agreed.rules),
            exception.who,
            exception.agreed.reason,
        )
        for exception in today
    )
    states = {
        state: sum(exception.row.state == state for exception in today) for state in ("in-force", "idle", "expired")
    }
    title = f"{plural(len(rows), 'exception')}: " + ", ".join(f"{number} {state}" for state, number in states.items())
    with console(stream, look) as out:
        if rows:
            draw(out, Section(title, _COLUMNS, rows))
        else:
            say(out, "No exception is agreed.")
