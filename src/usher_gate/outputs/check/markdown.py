"""A check as Markdown, to paste into a ticket or a page."""

from __future__ import annotations

from dataclasses import replace
from typing import TextIO

from ...core.verdicts.codes import MEETS
from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import Rule
from ..markdown import plain, section_text
from ..page import Page, page_markdown
from ..render_options import RenderOptions
from ..show_words import ALL
from .digest import digest, sections
from .headline import short_answer
from .screen import asked_sections, screen


def _reasons(rule: Rule) -> str:
    """Return why a rule asks what it asks, what mends it, and what it maps to."""
    maps = "; ".join(f"{framework}: {', '.join(names)}" for framework, names in rule.maps.items())
    parts = [rule.title.rstrip(".") + ".", rule.because, rule.mend, f"({maps})" if maps else ""]
    return f"- {plain(rule.id)}: {' '.join(plain(part) for part in parts if part)}\n"


def write_markdown(result: CheckResult, stream: TextIO, look: RenderOptions) -> None:
    """Writes the first screen, or the sections that are asked for; the same rows as the table."""
    if ALL in look.show:
        _write_all(result, stream, look)
    elif look.show:
        page_markdown(Page(short_answer(result), (), sections(result, look.rows, look.show)), (), stream, look.show)
    else:
        made = screen(result, look.rows)
        page = replace(made, sections=(*made.sections, *asked_sections(result, look.rows)))
        page_markdown(page, result.notes, stream)


def _write_all(result: CheckResult, stream: TextIO, look: RenderOptions) -> None:
    """Writes everything."""
    made = digest(result, look.rows)
    first, *rest = made.answer
    stream.write(f"# {plain(first)}\n\n" + "".join(f"**{plain(line)}**\n\n" for line in rest))
    stream.write(f"{plain(made.about)}\n\n")
    stream.writelines(f"- {plain(line)}\n" for line in made.details)
    stream.write(f"\n{plain(made.bar)}: " + ", ".join(f"{name} {number:,}" for name, number in made.verdicts) + "\n\n")
    stream.write("\n".join(section_text(section) for section in made.sections))
    wanting = [rule for rule in result.rules if any(result.rule_counts[rule.id][code] for code in range(MEETS))]
    if wanting:
        stream.write("\n## Why it is asked, and what mends it\n\n")
        stream.writelines(_reasons(rule) for rule in wanting)
    if result.hint:
        stream.write(f"\n{plain(result.hint)}\n")
    if result.notes:
        stream.write("\n## Notes\n\n" + "".join(f"- {plain(note)}\n" for note in result.notes))
