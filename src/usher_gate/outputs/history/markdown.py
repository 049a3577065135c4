"""The history, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..page import page_markdown
from ..render_options import RenderOptions
from .answer import HistoryAnswer
from .pages import history_page


def write_history_markdown(answer: HistoryAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_markdown(history_page(answer, look.rows), answer.notes, stream)
