"""A check as Markdown, to paste into a ticket or a page."""

from __future__ import annotations

from typing import TextIO

from ...core.verdicts.codes import MEETS
from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import Rule
from ..markdown import plain, section_text
from ..render_options import RenderOptions
from .digest import digest


def _reasons(rule: Rule) -> str:
    """Return why a rule asks what it asks, what mends it, and what it maps to."""
    maps = "; ".join(f"{framework}: {', '.join(names)}" for framework, names in rule.maps.items())
    parts = [rule.title.rstrip(".") + ".", rule.because, rule.mend, f"({maps})" if maps else ""]
    return f"- {plain(rule.id)}: {' '.join(plain(part) for part in parts if part)}\n"


def write_markdown(result: CheckResult, stream: TextIO, look: RenderOptions) -> None:
    """Writes the whole answer; the same rows as the table."""
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
