"""A result as people read it: what it is about, a first line, labelled lines, sections; for a terminal and as Markdown.

On a terminal a page fits one screen unless more is asked for. Spec: command-line 2.2.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, TextIO

from ..core.words.record import record
from ..core.words.times import show_time
from .render_options import RenderOptions
from .section import Section
from .show_words import ALL

if TYPE_CHECKING:
    from rich.console import Console

    from ..core.organisation.snapshot import Snapshot

# A page on a terminal has at most so many lines, from so many columns on and below.
WIDE, MOST_LINES, MOST_LINES_NARROW = 100, 40, 45
# What is tried until a table fits: so many rows, and lines of a cell.
_SIZES = ((10, 12), (10, 4), *((most, 2) for most in range(10, 2, -1)))
_LABEL = 15  # columns of a label
_LEAST_LINES = 11  # kept for the first table: a blank one, title, heading, rule, three rows, how to see the others


@record
class Page:
    """A first line, lines of detail, sections, the most important first, and what is around them.

    Before the first line come `doubts` about the answer, and what it is `about`. `labelled` lines follow the details;
    the lines `below` come last.
    """

    first: str
    details: tuple[str, ...]
    sections: tuple[Section, ...]
    about: str = ""
    listed_by: str = ""  # the option that lists the people in the first line
    labelled: tuple[tuple[str, str], ...] = ()
    below: tuple[str, ...] = ()
    next_call: tuple[str, ...] = ()  # the words of a call to try next
    more: str = ""  # how to see the rest; by default the words of the sections that are not shown whole
    doubts: tuple[str, ...] = ()


def about_snapshot(snapshot: Snapshot) -> str:
    """Return which organisation an answer is about, and as of when."""
    return f"{snapshot.name}, {show_time(snapshot.taken_at)}"


def page_table(page: Page, stream: TextIO, look: RenderOptions) -> None:
    """Writes a page for a person at a terminal: one screen of it, the sections that are asked for, or all."""
    from .drawing import console

    with console(stream, look) as out:
        draw_page(out, page, look)


def draw_page(out: Console, page: Page, look: RenderOptions) -> None:
    """Draws one screen of a page, the sections that are asked for, or all."""
    from .drawing import draw, say, say_call, say_labelled

    for line in page.doubts:
        say(out, line, "bold")
    if page.about:
        say(out, page.about, "dim")
    say(out, _first(page), "bold")
    sections = [section for section in page.sections if section.rows]
    if look.show and ALL not in look.show:
        for section in asked_for(sections, look.show):
            draw(out, replace(section, word=""))
        return
    for line in page.details:
        say(out, line, indent=2)
    if look.show or not look.fits_screen:
        say_labelled(out, page.labelled, out.width, _LABEL)
        for section in sections:
            draw(out, replace(section, word=""))
        below = page.below
    else:
        room = _room(page, sections, out.width)
        labelled = _fitting_lines(page, out.width, room - (_LEAST_LINES if sections else 0))
        room -= say_labelled(out, labelled, out.width, _LABEL)
        shown = list(_fitting(sections, room, out.width))
        for section in shown:
            draw(out, section)
        below = (*page.below, *((page.more,) if page.more else more_line(sections, shown)))
    if below or page.next_call:
        say(out, "")
    if page.next_call:
        say_call(out, "Next: ", page.next_call)
    for line in below:
        say(out, line)


def _first(page: Page) -> str:
    """Return the first line, with the option that lists the people that it counts."""
    return f"{page.first.removesuffix('.')} ({page.listed_by})." if page.listed_by else page.first


def asked_for(sections: Sequence[Section], words: Sequence[str]) -> Iterator[Section]:
    """Yield the sections that are asked for, in the order of asking; an empty one where there is nothing to show."""
    for word in dict.fromkeys(words):
        found = [section for section in sections if section.word == word]
        yield from found or [Section(f"Nothing to show: {word}.", (), ())]


def more_line(sections: Sequence[Section], shown: Sequence[Section] = ()) -> Iterator[str]:
    """Yield how to see what is not shown, if there is something."""
    whole = {id(section) for section in shown}
    words = dict.fromkeys(section.word for section in sections if id(section) not in whole or section.left_out)
    if words:
        yield f"More: --show {' | '.join((*filter(None, words), ALL))}"


def _room(page: Page, sections: Sequence[Section], width: int) -> int:
    """Return how many lines are left for labelled lines and tables."""
    from .drawing import wrapped

    lines = [*page.doubts, *filter(None, (page.about,)), _first(page), *page.below]
    lines.append(page.more or next(more_line(sections), " "))
    used = sum(len(wrapped(line, width)) for line in lines) + 2 + bool(page.next_call)  # blank ones
    used += sum(len(wrapped(line, width - 2)) for line in page.details)
    return (MOST_LINES if width >= WIDE else MOST_LINES_NARROW) - used


def _fitting_lines(page: Page, width: int, room: int) -> Sequence[tuple[str, str]]:
    """Return the labelled lines that there is room for; the last says how many are left out."""
    from .drawing import wrapped

    heights = [len(wrapped(text, width - _LABEL - 2)) for _, text in page.labelled]
    kept = len(heights)
    while kept and sum(heights[:kept]) + (kept < len(heights)) > room:
        kept -= 1
    left_out = len(heights) - kept
    return [*page.labelled[:kept], *([("and more", f"{left_out} more such lines: --show all")] if left_out else [])]


def _fitting(sections: Sequence[Section], room: int, width: int) -> Iterator[Section]:
    """Yield the sections as far as there is room: the first in any case, others with at least three of their rows."""
    from .drawing import height, shortened

    for number, section in enumerate(sections):
        for most, cell_lines in _SIZES:
            fitted = shortened(section.first(most), width, cell_lines)
            lines = height(fitted, width)
            if lines <= room:
                break
        if lines <= room or not number:
            room -= lines
            yield section if fitted.rows == section.rows else fitted


def page_markdown(page: Page, notes: Sequence[str], stream: TextIO, show: Sequence[str] = ()) -> None:
    """Writes a page as Markdown, with its notes at the end; of the sections only those that are asked for, if any."""
    from .markdown import plain, section_text

    stream.write(f"# {plain(_first(page))}\n\n")
    sections = [section for section in page.sections if section.rows]
    if show and ALL not in show:
        stream.write("\n".join(section_text(section) for section in asked_for(sections, show)))
        return
    stream.writelines(f"**{plain(line)}**\n\n" for line in page.doubts)
    stream.write(f"{plain(page.about)}\n\n" if page.about else "")
    stream.writelines(f"- {plain(line)}\n" for line in page.details)
    stream.writelines(f"- **{plain(label)}**: {plain(text)}\n" for label, text in page.labelled)
    stream.write("\n" + "\n".join(section_text(section) for section in sections))
    stream.writelines(f"\n{plain(line)}\n" for line in (*page.below, *filter(None, (page.more,))))
    if notes:
        stream.write("\n## Notes\n\n" + "".join(f"- {plain(note)}\n" for note in notes))
