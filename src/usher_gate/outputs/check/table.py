"""A check for a person at a terminal."""

from __future__ import annotations

from typing import TextIO

from rich.console import Console
from rich.text import Text

from ...core.verdicts.result import CheckResult
from ..drawing import STYLES, console, draw, say, say_call
from ..page import Page, draw_page
from ..render_options import RenderOptions
from ..show_words import ALL
from .digest import Digest, digest, sections
from .headline import short_answer
from .screen import asked_sections, screen, since_text

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


def write_table(result: CheckResult, stream: TextIO, look: RenderOptions) -> None:
    """Writes the first screen, or the sections that are asked for."""
    with console(stream, look) as out:
        if ALL in look.show:
            _write_all(out, result, look)
        elif look.show:
            draw_page(out, Page(short_answer(result), (), sections(result, look.rows, look.show)), look)
        else:
            draw_page(out, screen(result, look.rows), look)
            for section in asked_sections(result, look.rows):
                draw(out, section)


def _write_all(out: Console, result: CheckResult, look: RenderOptions) -> None:
    """Writes everything, widest question first."""
    made = digest(result, look.rows)
    if made.answer:
        for line in made.answer:
            say(out, line, "bold")
        for line in made.details:
            say(out, line, indent=2)
        say(out, made.about, "dim")
        _bar(out, made)
        for section in made.sections:
            draw(out, section)
        if since := since_text(result):
            out.print()
            say(out, since)
        if made.next_step:
            out.print()
            say_call(out, "Next: ", made.next_step)
        if result.hint:
            say(out, result.hint)


def _bar(out: Console, made: Digest) -> None:
    """All verdicts as one bar, each kind with its own filling and its number."""
    judged = [(name, number) for name, number in made.verdicts if name != "exempt" and number]
    total = sum(number for _, number in judged)
    if not total:
        return
    width = min(out.width - 2, _WIDEST_BAR)
    bar, legends = Text("  "), [Text("  ")]
    cells = _share(judged, total, width)
    for (name, number), length in zip(judged, cells, strict=True):
        bar.append(FILLS[name] * length, STYLES[name])
        said = f" {name} {number:,}   "
        if len(legends[-1]) + len(said) - 2 > out.width:
            legends.append(Text("  "))
        legends[-1].append(FILLS[name], STYLES[name])
        legends[-1].append(said)
    out.print()
    say(out, made.bar, indent=2)
    out.print(bar)
    for legend in legends:
        legend.rstrip()
        out.print(legend)


def _share(judged: list[tuple[str, int]], total: int, width: int) -> list[int]:
    """Return how many cells each kind gets: its share, but at least one."""
    cells = [max(1, number * width // total) for _, number in judged]
    cells[cells.index(max(cells))] += width - sum(cells)
    return cells
