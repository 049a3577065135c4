"""Making names harmless: for a terminal, and for a spreadsheet."""

from __future__ import annotations

import unicodedata


def for_terminal(text: str) -> str:
    """The text without anything that a terminal would obey: control and format characters are shown by their number."""
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() or char == " " else f"<U+{ord(char):04X}>"
        for char in unicodedata.normalize("NFC", text)
    )


def for_spreadsheet(text: str) -> str:
    """The text as a cell that no spreadsheet takes for a formula: such a one gets an apostrophe in front."""
    return "'" + text if text.lstrip(" \t\r\n")[:1] in ("=", "+", "-", "@") or text[:1] in ("\t", "\r", "\n") else text
