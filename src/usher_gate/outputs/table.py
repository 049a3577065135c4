"""A check for a person at a terminal, as wide as the terminal is."""

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

from ..core.verdicts.result import CheckResult
from .digest import Digest, Section, digest
from .interface import Look

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
# Each verdict has a filling of its own, so that the bar reads without colour.
FILLS = {
    "meets": "█",
    "loose": "▓",
    "settling": "▒",
    "unknown": "?",
    "unavailable": "░",
    "drifts": "!",
    "excepted": "·",
}
_WIDEST_BAR = 100
_WHOLE = ("login", "id", "step", "where", "fate", "exception", "rule", "when (UTC)", "first")
_COLOURED = ("severity", "worst", "verdict", "state", "outcome")


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


def write_table(result: CheckResult, stream: TextIO, look: Look) -> None:
    """Writes the whole answer, widest question first."""
    made = digest(result, look.rows)
    with console(stream, look) as out:
        out.print(Text(made.answer, style="bold"))
        for line in made.details:
            out.print(Padding(Text(line), (0, 0, 0, 2)))
        out.print(Text(made.about, style="dim"))
        _bar(out, made)
        for section in made.sections:
            draw(out, section)
        if made.next_step:
            out.print()
            out.print(Text("Next: ", style="bold") + Text(made.next_step))


def _bar(out: Console, made: Digest) -> None:
    """All verdicts as one bar, each kind with its own filling and its number."""
    judged = [(name, number) for name, number in made.verdicts if name != "exempt" and number]
    total = sum(number for _, number in judged)
    if not total:
        return
    width = min(out.width - 2, _WIDEST_BAR)
    bar, legend = Text("  "), Text("  ")
    cells = _share(judged, total, width)
    for (name, number), length in zip(judged, cells, strict=True):
        bar.append(FILLS[name] * length, STYLES[name])
        legend.append(FILLS[name], STYLES[name])
        legend.append(f" {name} {number:,}   ")
    out.print()
    out.print(bar)
    out.print(legend)


def _share(judged: list[tuple[str, int]], total: int, width: int) -> list[int]:
    """How many cells each kind gets: its share, but at least one."""
    cells = [max(1, number * width // total) for _, number in judged]
    cells[cells.index(max(cells))] += width - sum(cells)
    return cells


def draw(out: Console, section: Section) -> None:
    """Draws one section."""
    out.print()
    out.print(Text(section.title, style="bold"))
    table = Table(
        box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, padding=(0, 1, 0, 0), header_style="dim", expand=False
    )
    dropped = _unneeded(section)
    shown = [number for number in range(len(section.columns)) if number not in dropped]
    for number in shown:
        heading, right = section.columns[number]
        longest = max(len(row[number]) for row in section.rows)
        whole = heading in _WHOLE and longest <= out.width // 2  # what somebody copies is not broken
        short = right or whole or (number != shown[-1] and longest <= 10)
        dated = (
            10 if heading.startswith(("changed", "until")) and out.width >= 80 else None
        )  # a date stays in one piece
        table.add_column(
            heading,
            justify="right" if right else "left",
            no_wrap=short,
            min_width=dated,
            overflow="ellipsis" if short else "fold",
        )
    for row in section.rows:
        table.add_row(*(Text(row[number], style=_style(section.columns[number][0], row[number])) for number in shown))
    out.print(Padding(table, (0, 0, 0, 2)))
    if section.more:
        out.print(Padding(Text(section.more, style="dim"), (0, 0, 0, 2)))


def _style(heading: str, cell: str) -> str:
    return STYLES.get(cell, "") if heading in _COLOURED else ""


def _unneeded(section: Section) -> set[int]:
    """Columns in which no row says anything."""
    return {number for number in range(len(section.columns)) if all(row[number] in ("·", "") for row in section.rows)}
