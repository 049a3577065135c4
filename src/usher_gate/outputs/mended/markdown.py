"""The fewest changes that mend, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..page import page_markdown
from ..render_options import RenderOptions
from .answer import MendAnswer
from .pages import mended_page


def write_mended_markdown(answer: MendAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_markdown(mended_page(answer, look.rows), answer.notes, stream)
