"""What a file of changes would do, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..drawing import console, say
from ..page import page_table
from ..rehearsal.table import write_rehearsal
from ..render_options import RenderOptions
from .answer import ChangedAnswer
from .pages import changed_page


def write_changed(answer: ChangedAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer; the sign-ins of the log come at the end, as in an answer of their own."""
    page_table(changed_page(answer, look.rows), stream, look)
    if answer.sign_ins is not None:
        with console(stream, look) as out:
            say(out, "")
            say(out, "Sign-ins of the log", "bold")
        write_rehearsal(answer.sign_ins, stream, look)
