"""Making names harmless: for a terminal, and for a spreadsheet."""

from __future__ import annotations

import unicodedata

from ..files.written.cells import for_spreadsheet

__all__ = ["for_spreadsheet", "for_terminal"]


def for_terminal(text: str) -> str:
    """The text without anything that a terminal would obey: control and format characters are shown by their number."""
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() or char == " " else f"<U+{ord(char):04X}>"
        for char in unicodedata.normalize("NFC", text)
    )
