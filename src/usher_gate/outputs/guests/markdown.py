"""Guests and who has to be asked, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..look import Look
from ..page import page_markdown
from .answer import GuestsAnswer
from .pages import guests_page


def write_guests_markdown(answer: GuestsAnswer, stream: TextIO, look: Look) -> None:
    """The whole answer."""
    page_markdown(guests_page(answer, look.rows), answer.notes, stream)
