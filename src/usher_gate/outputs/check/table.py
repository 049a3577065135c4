"""A check for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from rich.console import Console
from rich.text import Text

from ...core.verdicts.result import CheckResult
from ..drawing import STYLES, console, draw, say
from ..look import Look
from ..safe import for_terminal
from .digest import Digest, digest

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


def write_table(result: CheckResult, stream: TextIO, look: Look) -> None:
    """Writes the whole answer, widest question first."""
    made = digest(result, look.rows)
    with console(stream, look) as out:
        say(out, made.answer, "bold")
        for line in made.details:
            say(out, line, indent=2)
        say(out, made.about, "dim")
        _bar(out, made)
        for section in made.sections:
            draw(out, section)
        if made.next_step:
            out.print()
            out.print(Text("Next: ", style="bold") + Text(for_terminal(made.next_step)))


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
