"""Text that is safe to open: cells that a spreadsheet leaves as they are, and control characters that are shown and
not obeyed."""

from __future__ import annotations

import contextlib
import re
from datetime import datetime, time
from decimal import Decimal

_ALTERED = re.compile(r"[-+]?[\d.,:/ ]*[\d%]|[\d.,]+[eE][-+]?\d+|true|false|wahr|falsch|vrai|faux", re.IGNORECASE)
_PLAIN = re.compile(r"\d{4}-\d\d-\d\d|0|[1-9]\d{0,14}")
# A spreadsheet that is set to another separator begins a cell after each of these.
_FORMULA_INSIDE = re.compile(r"([;|\t\r\n] *)(?=[=+\-@])")
_QUOTED_INSIDE = re.compile(r"([;|\t\r\n] *)(?=[=+\-@'])")
_UNQUOTED_INSIDE = re.compile(r"([;|\t\r\n] *)'(?=[=+\-@'])")
# C0, DEL, C1, and the controls of bidirectional text (Unicode UAX #9, table of explicit formatting characters).
BEYOND_C0 = "\\x7f-\\x9f\\u061c\\u200e\\u200f\\u202a-\\u202e\\u2066-\\u2069"
_CONTROL = re.compile(f"[\\x00-\\x1f{BEYOND_C0}]")
_RAW_IN_JSON = re.compile(f"[{BEYOND_C0}]")


def visible(text: str) -> str:
    """Return the text with each control character as its number, such as `<U+001B>`."""
    return text if text.isprintable() else _CONTROL.sub(lambda found: f"<U+{ord(found[0]):04X}>", text)


def escaped(text: str) -> str:
    """Return a JSON text with the control characters that JSON may hold raw (DEL, C1, bidirectional controls) as
    escapes.
    """
    return _RAW_IN_JSON.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def header_text(text: str) -> str:
    """Return the text as one line without control characters, as the header of a message may have it."""
    return " ".join(_CONTROL.sub(" ", text).split())


def for_spreadsheet(text: str) -> str:
    """Return the text as a cell that no spreadsheet takes for a formula, whatever its separator: each formula sign
    that a cell could
    begin with gets an apostrophe in front. Control characters are shown by their numbers."""
    text = visible(text)
    return ("'" if _begins_formula(text) else "") + _FORMULA_INSIDE.sub(r"\1'", text)


def for_round_trip(text: str) -> str:
    """Return the text as a cell that a spreadsheet neither takes for a formula nor saves otherwise than it was (a
    number with zeros in front, a time, a truth): such a one gets an apostrophe in front, and one that begins with an
    apostrophe another.
    """
    bare = text.strip()
    risky = bool(bare) and bool(_ALTERED.fullmatch(bare)) and not _PLAIN.fullmatch(bare)
    marked = risky or text[:1] == "'" or _begins_formula(text)
    return ("'" if marked else "") + _QUOTED_INSIDE.sub(r"\1'", text)


def from_round_trip(text: str) -> str:
    """Return a cell as it was before `for_round_trip`."""
    return _UNQUOTED_INSIDE.sub(r"\1", text[1:] if text[:1] == "'" else text)


def _begins_formula(text: str) -> bool:
    return text.lstrip(" \t\r\n")[:1] in ("=", "+", "-", "@") or text[:1] in ("\t", "\r", "\n")


_ISO = re.compile(r"(\d{4})-(\d\d?)-(\d\d?)(?:[T ](\d\d?):(\d\d)(?::(\d\d)(?:\.0*)?)?)?Z?")
_DOTTED = re.compile(r"(\d\d?)\.(\d\d?)\.(\d{4})(?:,? (\d\d?):(\d\d)(?::(\d\d))?)?")
_SLASHED = re.compile(r"(\d\d?)/(\d\d?)/(\d{4})(?:,? (\d\d?):(\d\d)(?::(\d\d))?)?")
_NUMBER = re.compile(r"-?\d+(?:[.,]\d+)?")


def moments(text: str) -> list[datetime]:
    """Return the days (or times) that a cell may mean as spreadsheets write them.

    2027-01-31, 31.01.2027, and of 1/2/2027 both.
    """
    found = []
    for pattern, orders in ((_ISO, ((0, 1, 2),)), (_DOTTED, ((2, 1, 0),)), (_SLASHED, ((2, 0, 1), (2, 1, 0)))):
        match = pattern.fullmatch(text.strip())
        if match is not None:
            parts = [int(part or 0) for part in match.groups()]
            hour, minute, second = parts[3:]
            for year, month, day in orders:
                with contextlib.suppress(ValueError):
                    found.append(datetime(parts[year], parts[month], parts[day], hour, minute, second))
    return list(dict.fromkeys(found))


def same_value(asked: str, cell: str) -> bool:
    """Return whether a cell holds what was written into it, however a spreadsheet shows it by now.

    As a number, or as a day.
    """
    asked, cell = asked.strip(), cell.strip()
    if asked == cell:
        return True
    if _NUMBER.fullmatch(asked) and _NUMBER.fullmatch(cell):
        return Decimal(asked.replace(",", ".")) == Decimal(cell.replace(",", "."))
    was = moments(asked)
    return bool(was) and any(
        one == was[0] or (one.time() == time() and one.date() == was[0].date()) for one in moments(cell)
    )
