"""Guests and who has to be asked, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..look import Look
from ..page import page_table
from .answer import GuestsAnswer
from .pages import guests_page


def write_guests(answer: GuestsAnswer, stream: TextIO, look: Look) -> None:
    """The whole answer."""
    page_table(guests_page(answer, look.rows), stream, look)
