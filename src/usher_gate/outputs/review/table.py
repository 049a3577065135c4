"""What the answers of a review come to, for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from ..page import page_table
from ..render_options import RenderOptions
from .answer import ReviewAnswer
from .pages import review_page


def write_review(answer: ReviewAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_table(review_page(answer, look.rows), stream, look)
