"""The history, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..look import Look
from ..page import page_table
from .answer import HistoryAnswer
from .pages import history_page


def write_history(answer: HistoryAnswer, stream: TextIO, look: Look) -> None:
    """The whole answer."""
    page_table(history_page(answer, look.rows), stream, look)
