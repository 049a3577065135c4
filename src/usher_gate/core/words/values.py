"""The four kinds of value that a control can have, the text form of each value, and what "stricter" means for it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

_NUMBER = re.compile(r"-?[0-9]{1,30}(\.[0-9]{1,30})?", re.ASCII)


EMPTY_SET = "-"  # how a set without a word is written and shown


class BadValue(ValueError):
    """A text that is not a value of its kind; the message says what would be right."""


def join_words(words: Sequence[str]) -> str:
    """Return the text of a set: its distinct words sorted, joined by `;`."""
    return ";".join(sorted(set(words)))


def split_words(text: str) -> frozenset[str]:
    """Return the words of a set's text.

    Blanks around a word and empty words do not count, and `-` alone is the empty set.
    """
    if text.strip() == EMPTY_SET:
        return frozenset()
    return frozenset(word for word in (part.strip() for part in text.split(";")) if word)


@dataclass(frozen=True, slots=True)
class Kind:
    """Describes what values something can take.

    `name` is flag, level, number, set or text; `words` are the legal words, weakest first (flag and level);
    `higher` says, for a number that is `ordered`, that a higher one is stricter.
    """

    name: str
    words: tuple[str, ...] = ()
    higher: bool = True
    ordered: bool = True  # of a number: whether one is stricter than another

    def parse(self, text: str) -> str:
        """Return the canonical text of a value; raises BadValue."""
        if self.name in ("flag", "level"):
            if text not in self.words:
                shown = " or ".join(self.words) if len(self.words) == 2 else "one of " + ", ".join(self.words)
                raise BadValue(shown)
            return text
        if self.name == "number":
            return canonical_number(text)
        if self.name == "set":
            return join_words(tuple(split_words(text)))
        return text

    def strictness(self, text: str) -> Fraction:
        """Return a number that grows with strictness; 0 for every value of a kind without an order.

        `text` is canonical.
        """
        if self.name in ("flag", "level"):
            return Fraction(self.words.index(text))
        if self.name == "number":
            return Fraction(text) if self.higher else -Fraction(text)
        return Fraction(0)


def canonical_number(text: str) -> str:
    """Return the shortest decimal of a number; raises BadValue."""
    if not _NUMBER.fullmatch(text):
        raise BadValue("a decimal number such as 12 or 7.5")
    whole, _, fraction = text.partition(".")
    sign = "-" if whole.startswith("-") else ""
    digits = whole.lstrip("-").lstrip("0") or "0"
    fraction = fraction.rstrip("0")
    if digits == "0" and not fraction:
        return "0"
    return sign + digits + ("." + fraction if fraction else "")


def flag(strict: str) -> Kind:
    """Return a flag whose strict value is `strict` (on or off)."""
    return Kind("flag", ("off", "on") if strict == "on" else ("on", "off"))


def level(*words: str) -> Kind:
    """Return a level with these words, weakest first."""
    return Kind("level", words)


def number(strict: str) -> Kind:
    """Return a number of which the `higher` or the `lower` is stricter."""
    return Kind("number", (), strict == "higher")


WORD_SET = Kind("set")
TEXT = Kind("text")
