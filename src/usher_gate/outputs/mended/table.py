"""The fewest changes that mend, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..page import page_table
from ..render_options import RenderOptions
from .answer import MendAnswer
from .pages import mended_page


def write_mended(answer: MendAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_table(mended_page(answer, look.rows), stream, look)
