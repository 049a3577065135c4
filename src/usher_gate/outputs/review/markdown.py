"""What the answers of a review come to, as Markdown."""

from __future__ import annotations

from typing import TextIO

from ..page import page_markdown
from ..render_options import RenderOptions
from .answer import ReviewAnswer
from .pages import review_page


def write_review_markdown(answer: ReviewAnswer, stream: TextIO, look: RenderOptions) -> None:
    """The whole answer."""
    page_markdown(review_page(answer, look.rows), answer.notes, stream)
