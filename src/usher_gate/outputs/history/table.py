"""The history, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..page import page_table
from ..render_options import RenderOptions
from .answer import HistoryAnswer
from .pages import history_page


def write_history(answer: HistoryAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_table(history_page(answer, look.rows), stream, look)
