"""Numbers with their units, in words: 8 days rather than 11,520 minutes where that is exact.

Spec: command-line 2.
"""

from __future__ import annotations

from .compare import Comparison, shown

_UNITS = {
    "days": ("day", "days"),
    "hours": ("hour", "hours"),
    "minutes": ("minute", "minutes"),
    "length": ("character", "characters"),
}
_LARGER = {"minutes": (60, "hours"), "hours": (24, "days")}  # how many make one of the next unit


def unit_of(name: str) -> str:
    """Return the unit of a control or a fact by its name (`guest.review-days`, `days-since-review`).

    A word of _UNITS, "" for none.
    """
    word = name.rpartition(".")[2]
    if word.startswith("days-"):
        return "days"
    last = word.rpartition("-")[2]
    return last if last in _UNITS and word != last else ""


def with_unit(name: str, value: str) -> str:
    """Return a value of a control or a fact as it is shown, with its unit; in a larger one where that is exact."""
    unit = unit_of(name)
    if not unit or not value.isascii() or not value.isdecimal():
        return shown(value)
    number = int(value)
    while unit in _LARGER and number and number % _LARGER[unit][0] == 0:
        many, larger = _LARGER[unit]
        number, unit = number // many, larger
    return f"{number:,} {_UNITS[unit][number != 1]}"


def comparison_text(name: str, comparison: Comparison) -> str:
    """Return what a comparison of a control or a fact expects, in words, with the unit."""
    if not unit_of(name) or comparison.operator == "present":
        return comparison.text
    operands = [with_unit(name, operand) for operand in comparison.operands]
    if comparison.operator == "between":
        return f"between {operands[0]} and {operands[1]}"
    return f"{comparison.operator} {', '.join(operands)}"
