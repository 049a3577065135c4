"""Markdown as every form has it: text with its signs escaped, sections as tables."""

from __future__ import annotations

import re

from .safe import for_terminal
from .section import Section, cell_text

_SPECIAL = re.compile(r"([\\`*_{}\[\]<>#|~!&])")


def plain(text: str) -> str:
    """Return a text that Markdown shows as it is."""
    return _SPECIAL.sub(r"\\\1", for_terminal(text))


def section_text(section: Section) -> str:
    """Return one section in Markdown: its title, its table, and what is left out."""
    head = "| " + " | ".join(plain(column.heading) for column in section.columns) + " |"
    rule = "| " + " | ".join("---:" if column.right else "---" for column in section.columns) + " |"
    rows = ["| " + " | ".join(plain(cell_text(cell)) for cell in row) + " |" for row in section.rows]
    more = f"\n\n{plain(section.footer)}" if section.footer else ""
    return f"## {plain(section.title)}\n\n" + "\n".join([head, rule, *rows]) + more + "\n"
