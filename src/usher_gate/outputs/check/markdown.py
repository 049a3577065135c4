"""A check as Markdown, to paste into a ticket or a page."""

from __future__ import annotations

import re
from typing import TextIO

from ...core.verdicts.result import CheckResult
from ..look import Look
from ..safe import for_terminal
from ..section import Section, cell_text
from .digest import digest

_SPECIAL = re.compile(r"([\\`*_{}\[\]<>#|~!])")


def _plain(text: str) -> str:
    return _SPECIAL.sub(r"\\\1", for_terminal(text))


def _section(section: Section) -> str:
    head = "| " + " | ".join(_plain(column.heading) for column in section.columns) + " |"
    rule = "| " + " | ".join("---:" if column.right else "---" for column in section.columns) + " |"
    rows = ["| " + " | ".join(_plain(cell_text(cell)) for cell in row) + " |" for row in section.rows]
    more = f"\n\n{_plain(section.more)}" if section.more else ""
    return f"## {_plain(section.title)}\n\n" + "\n".join([head, rule, *rows]) + more + "\n"


def write_markdown(result: CheckResult, stream: TextIO, look: Look) -> None:
    """Writes the whole answer; the same rows as the table."""
    made = digest(result, look.rows)
    stream.write(f"# {_plain(made.answer)}\n\n{_plain(made.about)}\n\n")
    stream.writelines(f"- {_plain(line)}\n" for line in made.details)
    stream.write("\n" + ", ".join(f"{name} {number:,}" for name, number in made.verdicts) + "\n\n")
    stream.write("\n".join(_section(section) for section in made.sections))
    if result.notes:
        stream.write("\n## Notes\n\n" + "".join(f"- {_plain(note)}\n" for note in result.notes))
