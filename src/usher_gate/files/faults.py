"""The errors of reading, and the list in which all faults of all files are collected before anything stops.

UsherError                what the program says in one line (or a few), with its exit status
+-- BadInput              files or a call that are wrong: holds every Fault
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

SHOWN = 50


class UsherError(Exception):
    """Anything the person at the terminal is told instead of an answer."""

    status = 2


@dataclass(frozen=True, slots=True, order=True)
class Fault:
    """One thing wrong in one place. `line` 0 means the file as a whole."""

    file: str
    line: int
    message: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.message}" if self.line else f"{self.file}: {self.message}"


class BadInput(UsherError):
    """Files that cannot be used as they are; `faults` in the order of file and line."""

    def __init__(self, faults: Iterable[Fault]) -> None:
        self.faults = tuple(sorted(set(faults)))
        super().__init__("\n".join(str(fault) for fault in self.faults))


@dataclass
class Faults:
    """Collects faults and notes while files are read."""

    found: list[Fault] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def add(self, file: str, line: int, message: str) -> None:
        """Notes a fault."""
        self.found.append(Fault(file, line, message))

    def note(self, text: str) -> None:
        """Notes something that is worth knowing and does not stop the reading."""
        self.notes.append(text)

    def stop_if_any(self) -> None:
        """Raises BadInput if anything is wrong so far."""
        if self.found:
            raise BadInput(self.found)


def quoted(text: str) -> str:
    """A text from a file, short and harmless enough for one line of a terminal."""
    shown = text if len(text) <= 60 else text[:57] + "..."
    return "'" + "".join(char if char.isprintable() else f"\\x{ord(char):02x}" for char in shown) + "'"


def nearest(word: str, known: Iterable[str]) -> str:
    """What would be right instead of an unknown name: the nearest known one, or some of them."""
    import difflib

    names = sorted(known)
    close = difflib.get_close_matches(word[:80], names, 1, 0.6)
    if close:
        return f"did you mean {quoted(close[0])}?"
    if not names:
        return "none is known here"
    shown = ", ".join(names[:8])
    return f"known: {shown}" + (f" and {len(names) - 8} more" if len(names) > 8 else "")
