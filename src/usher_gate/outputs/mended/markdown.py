"""The fewest changes that mend, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..look import Look
from ..page import page_markdown
from .answer import MendAnswer
from .pages import mended_page


def write_mended_markdown(answer: MendAnswer, stream: TextIO, look: Look) -> None:
    """The whole answer."""
    page_markdown(mended_page(answer, look.rows), answer.notes, stream)
