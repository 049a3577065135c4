"""Numbers with what they count, in words."""

from __future__ import annotations


def plural(number: int, one: str, many: str | None = None) -> str:
    """Return a number and what it counts: `1 group`, `2,000 groups`; `many` is by default `one` with an s."""
    return f"{number:,} {noun(number, one, many)}"


def noun(number: int, one: str, many: str | None = None) -> str:
    """Return what a number counts, without the number: `group` for 1, else `groups`."""
    if number == 1:
        return one
    return one + "s" if many is None else many


def truth_word(is_true: bool) -> str:
    """Return `true` or `false`, as cells of tables and JSON say it."""
    return "true" if is_true else "false"
