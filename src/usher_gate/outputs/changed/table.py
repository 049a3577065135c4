"""What a file of changes would do, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..drawing import console, say
from ..look import Look
from ..page import page_table
from ..rehearsal.table import write_rehearsal
from .answer import ChangedAnswer
from .pages import changed_page


def write_changed(answer: ChangedAnswer, stream: TextIO, look: Look) -> None:
    """The whole answer; what the sign-ins of the log say stands at the end, as it stands alone."""
    page_table(changed_page(answer, look.rows), stream, look)
    if answer.sign_ins is not None:
        with console(stream, look) as out:
            say(out, "")
            say(out, "Sign-ins of the log", "bold")
        write_rehearsal(answer.sign_ins, stream, look)
