"""What a file of changes would do, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..page import Page, page_markdown
from ..render_options import RenderOptions
from .answer import ChangedAnswer
from .pages import changed_page


def write_changed_markdown(answer: ChangedAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer; of the sign-ins only what hurts."""
    page = changed_page(answer, look.rows)
    if answer.sign_ins is not None:
        done = answer.sign_ins.rehearsal
        said = f"Of {done.inside:,} sign-ins of the log that got in, {sum(done.hurt):,} would meet something else."
        page = Page(page.first, (*page.details, said), page.sections)
    page_markdown(page, answer.notes, stream)
