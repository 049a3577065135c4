"""Cells that a spreadsheet leaves as they are."""

from __future__ import annotations

import re

_ALTERED = re.compile(r"[-+]?[\d.,:/ ]*[\d%]|[\d.,]+[eE][-+]?\d+|true|false|wahr|falsch|vrai|faux", re.IGNORECASE)
_PLAIN = re.compile(r"\d{4}-\d\d-\d\d|0|[1-9]\d{0,14}")


def for_spreadsheet(text: str) -> str:
    """The text as a cell that no spreadsheet takes for a formula: such a one gets an apostrophe in front."""
    return "'" + text if text.lstrip(" \t\r\n")[:1] in ("=", "+", "-", "@") or text[:1] in ("\t", "\r", "\n") else text


def for_round_trip(text: str) -> str:
    """The text as a cell that a spreadsheet neither takes for a formula nor saves otherwise than it was (a number with zeros in front, a
    time, a truth): such a one gets an apostrophe in front, and one that begins with an apostrophe another."""
    bare = text.strip()
    risky = bool(bare) and bool(_ALTERED.fullmatch(bare)) and not _PLAIN.fullmatch(bare)
    return "'" + text if text[:1] == "'" or risky or for_spreadsheet(text) != text else text


def from_round_trip(text: str) -> str:
    """A cell as it was before `for_round_trip`."""
    return text[1:] if text[:1] == "'" else text
