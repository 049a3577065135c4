"""Guests and who has to be asked, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..page import page_table
from ..render_options import RenderOptions
from .answer import GuestsAnswer
from .pages import guests_page


def write_guests(answer: GuestsAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_table(guests_page(answer, look.rows), stream, look)
