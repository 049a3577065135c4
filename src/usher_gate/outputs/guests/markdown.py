"""Guests and who has to be asked, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..page import page_markdown
from ..render_options import RenderOptions
from .answer import GuestsAnswer
from .pages import guests_page


def write_guests_markdown(answer: GuestsAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_markdown(guests_page(answer, look.rows), answer.notes, stream)
