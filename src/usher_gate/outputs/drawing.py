"""Drawing on a terminal, as wide as it is; whatever a terminal would obey is shown escaped."""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TextIO

from rich import box
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from .look import Look
from .safe import for_terminal
from .section import DATE, WHOLE, WORD, Column, Section, cell_text

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
}


@contextmanager
def console(stream: TextIO, look: Look) -> Iterator[Console]:
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


def draw(out: Console, section: Section) -> None:
    """Draws one section; columns in which no row says anything are left out."""
    say(out, "")
    say(out, section.title, "bold")
    table = Table(
        box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim", expand=False
    )
    rows = [[for_terminal(cell_text(cell)) for cell in row] for row in section.rows]
    shown = [
        number for number in range(len(section.columns)) if any(row[number] not in (None, "") for row in section.rows)
    ]
    for number in shown:
        column = section.columns[number]
        longest = max(len(row[number]) for row in rows)
        whole = column.kind == WHOLE and longest <= out.width // 2  # what somebody copies is not broken
        short = column.right or whole or (number != shown[-1] and longest <= 10)
        table.add_column(
            column.heading,
            justify="right" if column.right else "left",
            no_wrap=short,
            min_width=10 if column.kind == DATE and out.width >= 80 else None,  # a date stays in one piece
            overflow="ellipsis" if short else "fold",
        )
    for row in rows:
        table.add_row(*(Text(row[number], style=_style(section.columns[number], row[number])) for number in shown))
    out.print(Padding(table, (0, 0, 0, 2)))
    if section.more:
        say(out, section.more, "dim", 2)


def _style(column: Column, cell: str) -> str:
    return STYLES.get(cell, "") if column.kind == WORD else ""
