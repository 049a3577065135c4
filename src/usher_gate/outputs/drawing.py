"""Drawing on a terminal, as wide as it is; whatever a terminal would obey is shown escaped."""

from __future__ import annotations

import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from typing import TextIO

from rich import box
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from ..core.words.record import record
from .render_options import RenderOptions
from .safe import for_terminal
from .section import DATE, WHOLE, WORD, Cell, Column, Section, cell_text

# What colour says is always said in words too.
STYLES = {
    "critical": "bold red",
    "high": "red",
    "medium": "yellow",
    "low": "dim",
    "meets": "green",
    "loose": "cyan",
    "settling": "blue",
    "unknown": "magenta",
    "unavailable": "bright_black",
    "drifts": "bold red",
    "excepted": "bright_black",
    "exempt": "dim",
    "expired": "red",
    "idle": "yellow",
    "in-force": "green",
    "allowed": "green",
    "challenged": "cyan",
    "stuck": "bold red",
    "denied": "red",
    "enters": "bold red",
    "waits": "green",
    "refused": "green",
    "turned away": "bold red",
    "walks in": "green",
    "kept out": "green",
    "open": "bold red",
    "shut": "green",
}
_SEVERAL = 3  # rows; of fewer, columns that repeat themselves are drawn
_LABEL_STYLES = {
    "locked out": "bold red",
    "stuck": "bold red",
    "open": "bold red",
    "turned away": "bold red",
    "worse": "bold red",
    "ignored": "yellow",
}


@contextmanager
def console(stream: TextIO, look: RenderOptions) -> Iterator[Console]:
    """A console whose lines go to the stream as the look says, without blanks at their ends."""
    held = io.StringIO()
    yield Console(
        file=held,
        width=look.width,
        force_terminal=look.colour,
        no_color=not look.colour,
        highlight=False,
        emoji=False,
        color_system="auto" if look.colour else None,
        markup=False,
        legacy_windows=False,
    )
    stream.writelines(line.rstrip() + "\n" for line in held.getvalue().splitlines())


def say(out: Console, text: str, style: str = "", indent: int = 0) -> None:
    """Prints one text, folded at the width."""
    out.print(Padding(Text(for_terminal(text), style=style), (0, 0, 0, indent)))


def say_call(out: Console, label: str, words: Sequence[str]) -> None:
    """Print a call behind a label, to be copied into a shell.

    Where the width does not suffice, a backslash continues the line; words are never broken.
    """
    lines = [label + words[0]]
    for number, word in enumerate(words[1:], 2):
        room = out.width - (len(" \\") if number < len(words) else 0)
        if len(f"{lines[-1]} {word}") > room:
            lines[-1] += " \\"
            lines.append(" " * len(label) + word)
        else:
            lines[-1] += f" {word}"
    for number, line in enumerate(lines):
        text = Text(for_terminal(line))
        text.stylize("bold", 0, 0 if number else len(label))
        out.print(text, soft_wrap=True)


def say_labelled(out: Console, lines: Sequence[tuple[str, str]], width: int, indent: int) -> int:
    """Print lines with a label each, the texts one below another, after a blank line.

    Return how many lines of text they took.
    """
    if lines:
        out.print()
    taken = 0
    for label, text in lines:
        for number, line in enumerate(wrapped(text, width - indent - 2)):
            shown = Text(" " * 2).append(f"{'' if number else label:<{indent - 2}}", _LABEL_STYLES.get(label, "dim"))
            out.print(shown.append(for_terminal(line)), no_wrap=True, soft_wrap=True)
            taken += 1
    return taken


def draw(out: Console, section: Section) -> None:
    """Draws one section; columns in which no row says anything are left out.

    No word is broken in its middle: where the width is not enough, spare columns are given up, then the rows are
    stacked.
    """
    say(out, "")
    section, same = _without_repeated(section)
    say(out, section.title, "bold")
    if same:
        say(out, same, "dim", 2)
    rows = _texts(section)
    layout = _layout(section, rows, out.width - 2)
    if not layout.kept:
        return
    if layout.widths is None:
        _stack(out, section, rows, layout.kept)
    else:
        _lay_out(out, section, rows, layout.kept, layout.widths)
    if footer := _footer(section, layout.given_up):
        say(out, footer, "dim", 2)


def _without_repeated(section: Section) -> tuple[Section, str]:
    """Return a table without the columns that are the same in every row, and what these say, to be said once above it.

    Only where there are several rows; numbers stay, and the first column.
    """
    if len(section.rows) < _SEVERAL:
        return section, ""
    same = [
        number
        for number, column in enumerate(section.columns)
        if number and not column.right and column.heading and section.rows[0][number] not in (None, "")
        if len({row[number] for row in section.rows}) == 1
    ]
    kept = [number for number in range(len(section.columns)) if number not in same]
    if not same or not kept:
        return section, ""
    said = "; ".join(f"{section.columns[number].heading} {cell_text(section.rows[0][number])}" for number in same)
    columns = tuple(section.columns[number] for number in kept)
    rows = tuple(tuple(row[number] for number in kept) for row in section.rows)
    return replace(section, columns=columns, rows=rows), f"Every row: {said}"


def _footer(section: Section, given_up: Sequence[str]) -> str:
    """Return what is said below a table."""
    wide = f"{' and '.join(given_up)}: with more columns, or in another --format" if given_up else ""
    return "; ".join(filter(None, (section.footer, wide)))


def _texts(section: Section) -> list[list[str]]:
    """Return the cells of a section as texts for a terminal."""
    return [[for_terminal(cell_text(cell)) for cell in row] for row in section.rows]


def _kept(section: Section) -> list[int]:
    """Return the columns in which some row says something."""
    return [
        number for number in range(len(section.columns)) if any(row[number] not in (None, "") for row in section.rows)
    ]


@record
class _Layout:
    """The columns of a table that are drawn, how wide each is (None: rows are stacked), the headings given up."""

    kept: list[int]
    widths: list[int] | None
    given_up: list[str]


def _layout(section: Section, rows: Sequence[Sequence[str]], width: int) -> _Layout:
    """Return how a table is laid out in a width: spare columns are given up until the others fit."""
    kept = _kept(section)
    spare = sorted(
        (number for number in kept if section.columns[number].spare), key=lambda n: -section.columns[n].spare
    )
    given_up: list[str] = []
    while (widths := _widths(section, rows, kept, width)) is None and spare:
        lost = spare.pop(0)
        kept.remove(lost)
        given_up.append(section.columns[lost].heading)
    return _Layout(kept, widths, given_up)


def height(section: Section, width: int) -> int:
    """Return how many lines a section takes when it is drawn (about, where its rows are stacked)."""
    section, same = _without_repeated(section)
    rows = _texts(section)
    layout = _layout(section, rows, width - 2)
    footer = _footer(section, layout.given_up)
    around = (
        1 + len(wrapped(section.title, width)) + sum(len(wrapped(line, width - 2)) for line in (footer, same) if line)
    )
    if layout.widths is None:
        return around + sum(len(layout.kept) for _ in rows) * 2
    drawn = [*zip(layout.kept, layout.widths, strict=True)]
    cells = [[len(wrapped(row[number], one)) for number, one in drawn] for row in rows]
    heading = max((len(wrapped(section.columns[number].heading, one)) for number, one in drawn), default=1)
    return around + heading + 1 + sum(map(max, cells))


def shortened(section: Section, width: int, most: int) -> Section:
    """Return a section whose cells take at most so many lines each when it is drawn; what is cut ends with `…`.

    The first column says what the row is about, and is never cut. Where much would be cut, spare columns go first.
    """
    layout = _layout(section, _texts(section), width - 2)
    if layout.widths is None:
        return section
    rows = _texts(section)
    drawn = [*zip(layout.kept, layout.widths, strict=True)]
    tallest = max((len(wrapped(row[number], one)) for row in rows for number, one in drawn[1:]), default=1)
    spare = max(layout.kept[1:], key=lambda number: section.columns[number].spare, default=0)
    if tallest > 2 * most and section.columns[spare].spare:
        kept = [number for number in range(len(section.columns)) if number != spare]
        columns = tuple(section.columns[number] for number in kept)
        return shortened(
            replace(section, columns=columns, rows=tuple(tuple(row[n] for n in kept) for row in section.rows)),
            width,
            most,
        )
    of_column = dict(zip(layout.kept[1:], layout.widths[1:], strict=True))

    def short(number: int, cell: Cell) -> Cell:
        lines = wrapped(cell, of_column[number]) if isinstance(cell, str) and number in of_column else []
        if len(lines) <= most:
            return cell
        last = lines[most - 1]
        return " ".join([*lines[: most - 1], last if len(last) < of_column[number] else last[:-1]]) + "…"

    cut = tuple(tuple(short(number, cell) for number, cell in enumerate(row)) for row in section.rows)
    # Shorter cells may be drawn narrower, and then be too high again.
    return section if cut == section.rows else shortened(replace(section, rows=cut), width, most)


def _least(column: Column, cells: Sequence[str]) -> int:
    """Return the fewest characters that a column can be drawn in without breaking a word."""
    texts = [column.heading, *cells]
    if column.right or column.kind in (WHOLE, WORD, DATE):
        return max(map(len, texts))
    return max((len(word) for text in texts for word in text.split(" ")), default=1)


def _widths(section: Section, rows: Sequence[Sequence[str]], kept: Sequence[int], width: int) -> list[int] | None:
    """Return how wide each column is drawn; None where they do not fit beside each other."""
    columns = [(section.columns[number], [row[number] for row in rows]) for number in kept]
    least = [_least(column, cells) for column, cells in columns]
    whole = [max(map(len, (column.heading, *cells))) for column, cells in columns]
    room = width - 2 * (len(kept) - 1)
    if sum(least) > room:
        return None
    widths, left = list(least), room - sum(least)
    while left and any(now < most for now, most in zip(widths, whole, strict=True)):
        # the tallest cell gets the next place, so that the rows stay few
        tallest = max(
            range(len(widths)), key=lambda place: whole[place] / widths[place] if widths[place] < whole[place] else 0
        )
        widths[tallest] += 1
        left -= 1
    return widths


def _lay_out(
    out: Console, section: Section, rows: Sequence[Sequence[str]], kept: Sequence[int], widths: Sequence[int]
) -> None:
    """Print a table with the columns that are kept, each cell wrapped to its column's width."""
    table = Table(
        box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim", expand=False
    )
    for number, width in zip(kept, widths, strict=True):
        column = section.columns[number]
        heading = "\n".join(wrapped(column.heading, width))
        table.add_column(
            heading, justify="right" if column.right else "left", no_wrap=True, width=width, overflow="ellipsis"
        )
    for row in rows:
        cells = zip(kept, widths, strict=True)
        table.add_row(
            *(
                Text("\n".join(wrapped(row[number], width)), _style(section.columns[number], row[number]))
                for number, width in cells
            )
        )
    out.print(Padding(table, (0, 0, 0, 2)))


def _stack(out: Console, section: Section, rows: Sequence[Sequence[str]], kept: Sequence[int]) -> None:
    """The rows one under another: the first cell, and each other one on lines of its own."""
    room = out.width - 2
    for row in rows:
        for place, number in enumerate(kept):
            column = section.columns[number]
            if place and row[number] in ("", "·"):
                continue
            indent = 4 if place else 2
            label = f"{column.heading}: " if place and column.heading else ""
            style = _style(column, row[number])
            for at, line in enumerate(wrapped(label + row[number], room - indent)):
                text = Text(" " * (indent + (2 if at else 0)))
                text.append(line if len(line) <= room - indent - 2 else line[: room - indent - 3] + "…", style)
                out.print(text, no_wrap=True)


def wrapped(text: str, width: int) -> list[str]:
    """Return a text in lines, broken between words alone; a word that is longer than the width is cut."""
    lines: list[str] = []
    for word in text.split(" "):
        if lines and len(lines[-1]) + 1 + len(word) <= width:
            lines[-1] += f" {word}"
        else:
            lines.append(word)
    return [line if len(line) <= width else line[: max(width - 1, 1)] + "…" for line in lines]


def _style(column: Column, cell: str) -> str:
    return STYLES.get(cell, "") if column.kind == WORD else ""
