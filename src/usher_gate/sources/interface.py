"""What every kind of source is, what it gives, and how it fails.

SourceFailed              a source that could not be read whole: one line that holds no secret (exit status 4)
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from io import BufferedReader
from pathlib import Path
from typing import Protocol

from ..files.binary import LARGEST_TABLE, open_file
from ..files.faults import BadInput, UsherError
from .secrets import Secrets

Row = dict[str, str]
FAILED = 4
SHRINK_LIMIT = 30.0  # percent of the rows that may be gone
MOST_PEOPLE = 20_000_000


class SourceFailed(UsherError):
    """A source that could not be read whole."""

    status = FAILED


def open_source(path: Path, largest: int = LARGEST_TABLE) -> BufferedReader:
    """Return a regular file of a source, opened to be read; raises SourceFailed."""
    try:
        return open_file(path, largest)
    except BadInput as error:
        raise SourceFailed(str(error.faults[0])) from None


@dataclass(frozen=True)
class MappedColumn:
    """A column that was mapped: from which attribute, field or raw column, and how many rows have something there."""

    table: str
    column: str
    attribute: str
    filled: int


@dataclass
class Gathered:
    """Describes what one source gave.

    Rows by table, files to copy as they are (name in the snapshot to path), and remarks.
    """

    tables: dict[str, Sequence[Row]] = field(default_factory=dict)
    files: dict[str, Path] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    taken_at: int | None = None  # when what it gave was taken, in microseconds; None: just now
    entries: int | None = None  # how many entries a calendar has, also those that make no row
    mapped: list[MappedColumn] = field(default_factory=list)

    def add(self, table: str, row: Row) -> None:
        """Adds a row."""
        rows = self.tables.setdefault(table, [])
        assert isinstance(rows, list), "rows are added one by one, or a table comes whole"
        rows.append(row)

    @property
    def counts(self) -> dict[str, int]:
        """Return how many rows of each table."""
        return {name: len(rows) for name, rows in sorted(self.tables.items())}


Progress = Callable[[str, int, int], None]  # what, how many are done, of how many (0: not known)


@dataclass(frozen=True)
class Context:
    """Describes what a source may use: the working folder, secrets, and a callback for its progress."""

    folder: Path
    secrets: Secrets
    progress: Progress
    most_people: int = MOST_PEOPLE
    time_zone: str = ""  # of times that name none; "": UTC

    def check_people(self, count: int) -> None:
        """Raise SourceFailed if a source gives more people than it may."""
        if count > self.most_people:
            raise SourceFailed(
                f"gives more than {self.most_people:,} people; write most_people = a larger number if that is right"
            )


@dataclass(frozen=True)
class Provides:
    """Describes what a source gives: tables, and settings for which services (None: for any).

    `whole` is true if the source is asked for all settings of these services. `needed` are tables that must have a row.
    """

    tables: frozenset[str]
    services: tuple[str, ...] | None = None
    whole: bool = True
    needed: frozenset[str] = frozenset()


class Source(Protocol):
    """One kind of source, made from its section of the settings file."""

    gives: Provides

    def gather(self, context: Context) -> Gathered:
        """Return everything that it has; raises SourceFailed."""


@dataclass(frozen=True)
class NamedSource:
    """A source by its name, with the limits of its data.

    `paths` are the files or folders that it reads. `shrink_limit` is how many percent of the rows of last time may be
    missing.
    """

    name: str
    kind: str
    place: str
    source: Source
    paths: tuple[str, ...] = ()
    may_be_empty: bool = False
    shrink_limit: float = SHRINK_LIMIT
    max_age_hours: float | None = None
    longest_minutes: float = 60.0
    most_people: int = MOST_PEOPLE
