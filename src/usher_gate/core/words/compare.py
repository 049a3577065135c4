"""The comparisons that a baseline can make (domain: "The catalogue and strictness")."""

from __future__ import annotations

from fractions import Fraction

from .record import record
from .values import EMPTY_SET, BadValue, Kind, split_words

OPERATORS = ("is", "one-of", "no-weaker-than", "between", "within", "includes", "none-of", "present")
_ONLY_SETS = ("within", "includes", "none-of")
_FITS = {
    "flag": ("is", "one-of", "no-weaker-than"),
    "level": ("is", "one-of", "no-weaker-than"),
    "number": ("is", "one-of", "no-weaker-than", "between"),
    "set": ("is", "one-of", *_ONLY_SETS),
    "text": ("is", "one-of"),
}


@record
class Comparison:
    """One comparison with its operands, each the canonical text of a value of `kind`.

    `present` has one operand, `true` or `false`, and asks only whether there is a value.
    """

    operator: str
    operands: tuple[str, ...]
    kind: Kind

    def passes(self, value: str) -> bool:
        """Return whether the canonical text `value` satisfies the comparison."""
        op, operands = self.operator, self.operands
        if op in ("is", "one-of"):
            return value in operands
        if op == "no-weaker-than":
            return self.kind.strictness(value) >= self.kind.strictness(operands[0])
        if op == "between":
            return Fraction(operands[0]) <= Fraction(value) <= Fraction(operands[1])
        have, want = split_words(value), split_words(operands[0])
        if op == "within":
            return have <= want
        if op == "includes":
            return have >= want
        if op == "none-of":
            return not have & want
        raise AssertionError(f"{op} compares no value")

    def apart(self, value: str) -> tuple[frozenset[str], frozenset[str]]:
        """Return what a failing set has too many, and what it lacks; none for other comparisons."""
        have, none = split_words(value), frozenset[str]()
        if self.operator == "within":
            return have - split_words(self.operands[0]), none
        if self.operator == "none-of":
            return have & split_words(self.operands[0]), none
        if self.operator == "includes":
            return none, split_words(self.operands[0]) - have
        if self.operator == "is" and self.kind.name == "set":
            want = split_words(self.operands[0])
            return have - want, want - have
        return none, none

    def passes_presence(self, there: bool) -> bool:
        """Return for `present`: whether being there, or not, is what is wanted."""
        return there == (self.operands[0] == "true")

    @property
    def text(self) -> str:
        """Return what is expected, in words: the operator and its operands."""
        if self.operator == "present":
            return "present" if self.operands[0] == "true" else "absent"
        if self.operator == "between":
            return f"between {self.operands[0]} and {self.operands[1]}"
        return f"{self.operator} {', '.join(shown(operand) for operand in self.operands)}"


def shown(value: str) -> str:
    """Return a value as it is shown: the empty set (and the empty text) by a sign of its own."""
    return value or EMPTY_SET


def fitting(kind: Kind, operator: str) -> bool:
    """Return whether the operator can compare values of this kind."""
    return operator in operators_for(kind)


def operators_for(kind: Kind) -> tuple[str, ...]:
    """Return the operators that fit a kind, for error messages."""
    return tuple(operator for operator in _FITS[kind.name] if kind.ordered or operator != "no-weaker-than")


def comparison(kind: Kind, operator: str, operands: tuple[str, ...]) -> Comparison:
    """Return a checked comparison; raises BadValue with what would be right."""
    if not fitting(kind, operator):
        raise BadValue(f"one of {', '.join(operators_for(kind))} (it is a {kind.name})")
    parsed = tuple(kind.parse(operand) for operand in operands)
    if operator == "between" and (len(parsed) != 2 or Fraction(parsed[0]) > Fraction(parsed[1])):
        raise BadValue("two numbers, the lower first")
    return Comparison(operator, parsed, kind)
