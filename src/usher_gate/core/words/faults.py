"""What is wrong in what was read.

Each fault with its place, and the list in which all are collected before anything stops.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, order=True)
class Fault:
    """One thing wrong in one place. `line` 0 means the file as a whole."""

    file: str
    line: int
    message: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.message}" if self.line else f"{self.file}: {self.message}"


@dataclass
class Faults:
    """Collects faults and notes while files are read."""

    found: list[Fault] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    named: set[tuple[str, str]] = field(default_factory=set)  # (file, word) pairs that were reported already

    def add(self, file: str, line: int, message: str) -> None:
        """Notes what is wrong at a line of a file (0: the file as a whole), and what would be right."""
        self.found.append(Fault(file, line, message))

    def note(self, text: str) -> None:
        """Notes something that is worth knowing and does not stop the reading."""
        self.notes.append(text)


def visible(text: str) -> str:
    """Return the text without anything that a terminal would obey.

    Characters that are not shown are shown by their number.
    """
    return "".join(char if char.isprintable() else char.encode("unicode_escape").decode() for char in text)


def times(number: int) -> str:
    """Return how often something was met, in words."""
    return "once" if number == 1 else f"{number:,} times"


def quoted(text: str) -> str:
    """Return a text from a file, short and harmless enough for one line of a terminal."""
    shown = text if len(text) <= 60 else text[:57] + "..."
    return f"'{visible(shown)}'"


def nearest(word: str, known: Iterable[str]) -> str:
    """Return what would be right instead of an unknown name: the nearest known one, or some of them."""
    import difflib

    names = sorted(known)
    close = difflib.get_close_matches(word[:80], names, 1, 0.6)
    if close:
        return f"did you mean {quoted(close[0])}?"
    if not names:
        return "none is known here"
    shown = ", ".join(visible(name[:60]) for name in names[:8])
    return f"known: {shown}" + (f" and {len(names) - 8} more" if len(names) > 8 else "")


def as_key(name: str) -> str:
    """Return a key as it is written: with underscores."""
    return name.replace("-", "_")


def nearest_key(key: str, known: Iterable[str]) -> str:
    """Return what would be right instead of an unknown key of a file."""
    return nearest(as_key(key), map(as_key, known))
