"""What is shown of a result: titled tables of typed cells, and numbers in words.

How cells are drawn is decided where they are drawn.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from ..core.organisation.snapshot import Snapshot
from ..core.words.plural import plural
from ..core.words.record import record

# What a column holds: text that may be folded; numbers; numbers in words, to the right; something that is copied and so
# not broken; a word that means a state; a date.
TEXT, COUNT, SHARE, WHOLE, WORD, DATE = "text", "count", "share", "whole", "word", "date"
Cell = str | int | None  # None: nothing, where a number could stand


@record
class Column:
    """A column of a table: its heading, and what it holds.

    Where the width is not enough, a `spare` one is given up, the highest first.
    """

    heading: str
    kind: str = TEXT
    spare: int = 0

    @property
    def right(self) -> bool:
        """Return whether its cells stand to the right."""
        return self.kind in (COUNT, SHARE)


@record
class Section:
    """A titled table; `left_out` rows of it are not here, and `more` is what else is said below it.

    `word` is what --show names it by, "" where only more rows can be asked for.
    """

    title: str
    columns: tuple[Column, ...]
    rows: tuple[tuple[Cell, ...], ...]
    more: str = ""
    word: str = ""
    left_out: int = 0

    @property
    def footer(self) -> str:
        """Return what is said below it: how many rows are left out and how to see them, and what else there is."""
        how = f"--show {self.word}" if self.word else "--rows 0, or --format json"
        return "; ".join(filter(None, (f"and {self.left_out:,} more: {how}" if self.left_out else "", self.more)))

    def first(self, most: int) -> Section:
        """Return it with its first rows only."""
        rows = self.rows[:most]
        return replace(self, rows=rows, left_out=self.left_out + len(self.rows) - len(rows))


def listed(
    word: str, title: str, columns: Sequence[Column], rows: Sequence[tuple[Cell, ...]], most: int, more: str = ""
) -> Section:
    """Return a table of the first `most` rows (0: all)."""
    section = Section(title=title, columns=tuple(columns), rows=tuple(rows), more=more, word=word)
    return section.first(most) if most else section


def part(
    word: str, title: str, columns: Sequence[Column], rows: Sequence[tuple[Cell, ...]], rows_in_all: int
) -> Section:
    """Return a table of which only the first rows were made."""
    left_out = rows_in_all - len(rows)
    return Section(title=title, columns=tuple(columns), rows=tuple(rows), word=word, left_out=left_out)


def cell_text(cell: Cell) -> str:
    """Return a cell as it is written for people."""
    if cell is None:
        return "·"
    return f"{cell:,}" if isinstance(cell, int) else cell


def joined(parts: Sequence[str]) -> str:
    """Return some things in a sentence: `a, b and c`."""
    return parts[0] if len(parts) == 1 else ", ".join(parts[:-1]) + " and " + parts[-1]


def some(names: Sequence[str], most: int = 3) -> str:
    """Return the first few of some names, and how many more there are."""
    return ", ".join(names[:most]) + (f" +{len(names) - most}" if len(names) > most else "")


def few_logins(snapshot: Snapshot, people: Sequence[int], most: int, times: Mapping[int, int] | None = None) -> str:
    """Return some people by login: the first three, or all of them if all rows are asked for (`most` 0).

    Who has some of `times` with how many.
    """
    import numpy as np

    first = people if not most else people[:3]
    more = f" +{len(people) - len(first):,}" if len(people) > len(first) else ""
    logins = snapshot.people.logins.take(np.array(first, np.int32))
    often = {person: f" ({number:,})" for person, number in (times or {}).items()}
    return ", ".join(login + often.get(person, "") for person, login in zip(first, logins, strict=True)) + more


def some_logins(snapshot: Snapshot, ids: Sequence[str], most: int) -> str:
    """Return some active people, given by id, by login: the first few, and how many more there are."""
    import numpy as np

    people = np.array([snapshot.people.ids.find(name)[0] for name in ids[:most]], np.int32)
    return some([*snapshot.people.logins.take(people), *ids[most:]], most)


def left(days: int) -> str:
    """Return how far away the last day of something is, in words."""
    if days < 0:
        return f"ended {plural(-days, 'day')} ago"
    return "ends today" if days == 0 else f"ends in {plural(days, 'day')}"


def place_text(scope: str, snapshot: Snapshot | None = None) -> str:
    """Return where a setting is, in words; with a snapshot also what the group, unit, person or meeting is called."""
    known = {"factory": "the service default", "licence": "for want of a licence"}
    return known.get(scope) or f"set at {scope_text(scope, snapshot)}"


def scope_text(scope: str, snapshot: Snapshot | None) -> str:
    """Return a scope with what its group, unit, person or meeting is called."""
    name = "" if snapshot is None else snapshot.scope_name(scope)
    return f"{scope} ({name})" if name and name != scope.partition(":")[2] else scope
