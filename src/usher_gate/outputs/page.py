"""A result as people read it: a first line, lines of detail, sections; for a terminal and as Markdown."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TextIO

from ..core.words.record import record
from .render_options import RenderOptions
from .section import Section


@record
class Page:
    """A first line, lines of detail, and sections."""

    first: str
    details: tuple[str, ...]
    sections: tuple[Section, ...]


def page_table(page: Page, stream: TextIO, look: RenderOptions) -> None:
    """A page for a person at a terminal."""
    from .drawing import console, draw, say

    with console(stream, look) as out:
        say(out, page.first, "bold")
        for line in page.details:
            say(out, line, indent=2)
        for section in page.sections:
            draw(out, section)


def page_markdown(page: Page, notes: Sequence[str], stream: TextIO) -> None:
    """A page as Markdown, with its notes at the end."""
    from .markdown import plain, section_text

    stream.write(f"# {plain(page.first)}\n\n")
    stream.writelines(f"- {plain(line)}\n" for line in page.details)
    stream.write("\n" + "\n".join(section_text(section) for section in page.sections))
    if notes:
        stream.write("\n## Notes\n\n" + "".join(f"- {plain(note)}\n" for note in notes))
