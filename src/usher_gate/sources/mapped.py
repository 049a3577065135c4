"""Any CSV, JSON or JSON Lines export, by a mapping file (form mapping/1).

Which raw column is which column or control.
"""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from ..core.words.faults import nearest, quoted, times
from ..files.jsoncells import cell_text
from .export import SUFFIXES, TEXT_SUFFIXES, raw_rows
from .interface import Context, Gathered, MappedColumn, Provides, Row, SourceFailed
from .mapping import LEVELS, Cell, MappingTarget, read_mapping
from .people import LISTS, OddValues, check_word, date_of, person_row

if TYPE_CHECKING:
    from .web import Access

_MEDIA_TYPES = {  # the ending of an export's file by the media type of an answer
    "text/csv": ".csv",
    "text/tab-separated-values": ".tsv",
    "application/json": ".json",
    "application/jsonl": ".jsonl",
    "application/x-ndjson": ".ndjson",
}


@dataclass
class Leftover:
    """Describes what a mapping does not speak of.

    Raw columns with how many rows fill them, and raw values by column.
    """

    columns: Counter[str] = field(default_factory=Counter)
    values: dict[str, Counter[str]] = field(default_factory=dict)
    refused: set[str] = field(default_factory=set)
    lost: dict[str, str] = field(default_factory=dict)  # raw columns that no row has, each with what would be right
    kinds: OddValues = field(default_factory=OddValues)
    not_taken: int = 0  # rows that no `where` takes


class Mapped:
    """An export and its mapping. The export is a file, or is fetched by HTTP(S) from the address of `access`."""

    def __init__(self, path: Path | None, mapping: Path, access: Access | None = None) -> None:
        self._path, self._mapping, self._access = path, mapping, access
        self._shown = str(path) if access is None else access.url
        self.gives = Provides(frozenset(("settings",)), None)

    def prepare(self, folder: Path) -> None:
        """Reads the mapping, so that what the source gives is known even if the export cannot be read."""
        self.mapping = read_mapping(folder / self._mapping)
        given = frozenset(into.table for into in self.mapping.into)
        services = self.mapping.services if "settings" in given else ()
        self.gives = Provides(given, services, whole=services is not None, needed=given)

    def gather(self, context: Context) -> Gathered:
        """Return the rows; raises SourceFailed for a raw value that the mapping does not speak of."""
        found, left = self.read(context)
        if left.lost:
            column, right = next(iter(sorted(left.lost.items())))
            raise SourceFailed(
                f"{self._shown}: no row has {quoted(column)}, of which {self._mapping} speaks; {right} "
                "(or write may_be_absent: true beside it)"
            )
        if left.refused:
            column = sorted(left.refused)[0]
            word, number = sorted(left.values[column].items(), key=lambda item: (-item[1], item[0]))[0]
            raise SourceFailed(
                f"{self._shown}: {column} holds {quoted(word)} ({times(number)}), "
                f"of which {self._mapping} does not speak; "
                "add it to values, or write other: leave (usher-gate gather --try lists all)"
            )
        if left.columns:
            found.notes.append(
                f"{self._shown}: columns that the mapping does not speak of: {', '.join(sorted(left.columns))}"
            )
        for column, words in sorted(left.values.items()):
            found.notes.append(
                f"{self._shown}: {column}: left out {', '.join(quoted(word) for word in sorted(words)[:10])}"
            )
        return found

    def read(self, context: Context) -> tuple[Gathered, Leftover]:
        """Return the rows, and what is left over."""
        if self._access is None:
            assert self._path is not None
            return self._read(context.folder / self._path, context)
        with tempfile.TemporaryDirectory() as folder:
            path = _fetch(self._access, context, Path(folder))
            try:
                return self._read(path, context)
            except SourceFailed as error:
                raise SourceFailed(str(error).replace(str(path), self._shown)) from None

    def _read(self, path: Path, context: Context) -> tuple[Gathered, Leftover]:
        """Read an export through its mapping: the rows, and what was left out or not translated."""
        found, left = Gathered(), Leftover()
        rows: dict[str, list[Row]] = {into.table: [] for into in self.mapping.into}
        found.tables.update(rows)
        spoken, expected, seen = self.mapping.spoken, set(self.mapping.expected), set[str]()
        is_flat = path.suffix in TEXT_SUFFIXES
        every = Counter[str]()  # how many rows fill each raw column
        filled: dict[str, Counter[str]] = {str(into.where): Counter() for into in self.mapping.into}
        if len(filled) == 1:
            filled = dict.fromkeys(filled, every)
        for number, raw in enumerate(raw_rows(path, self.mapping, found), 1):
            flat = raw if is_flat else _flat(raw)
            if len(seen) < 10_000:
                seen.update(flat)
            expected -= flat.keys()
            try:
                taking = [into for into in self.mapping.into if _is_taken(into, flat)]
                left.not_taken += not taking
                names = [name for name, value in flat.items() if value != ""]
                every.update(names if taking else ())
                for where in {str(into.where) for into in taking} if len(filled) > 1 else ():
                    filled[where].update(names)
                for into in taking:
                    for table, row in _rows_of(into, flat, left):
                        rows[table].append(row)
            except SourceFailed as error:
                raise SourceFailed(f"{path}: row {number}: {error}") from None
            if number % 1000 == 0:
                context.check_people(len(rows.get("people", ())))
            if number % 10_000 == 0:
                context.progress("rows", number, 0)
        context.check_people(len(rows.get("people", ())))
        left.columns = Counter({name: number for name, number in every.items() if name not in spoken})
        found.mapped = [
            MappedColumn(into.table, column, cell.source, filled[str(into.where)][cell.source])
            for into in self.mapping.into
            for column, cell in into.cells.items()
            if into.table != "settings" and cell.source is not None
        ]
        left.lost = {column: nearest(column, seen - spoken or seen) for column in expected} if seen else {}
        found.notes += left.kinds.notes()
        if left.not_taken:
            found.notes.append(
                f"{self._shown}: left out by where: {left.not_taken:,} {'row' if left.not_taken == 1 else 'rows'}"
            )
        if unfilled := sorted((spoken - self.mapping.ignore - every.keys()) & seen):
            found.notes.append(f"{self._shown}: there and empty in every row: {', '.join(unfilled)}")
        return found, left


def _fetch(access: Access, context: Context, folder: Path) -> Path:
    """Fetch an export into a file whose ending says its form, by the address or else by the media type."""
    from .web import Web

    with Web(access, context) as web:
        data, media_type = web.file()
    suffix = PurePosixPath(urlsplit(access.url).path).suffix.lower()
    if suffix not in SUFFIXES:
        suffix = _MEDIA_TYPES.get(media_type, suffix)
    path = folder / f"export{suffix}"
    path.write_bytes(data)
    return path


def _is_taken(into: MappingTarget, flat: Mapping[str, str]) -> bool:
    """Return whether `where` takes a row; of a list of words, one is enough."""
    for column, wanted in into.where.items():
        raw = flat.get(column, "")
        if wanted.isdisjoint(raw.split(";") if isinstance(raw, _Words) else (raw,)):
            return False
    return True


def _rows_of(into: MappingTarget, flat: Mapping[str, str], left: Leftover) -> Iterator[tuple[str, Row]]:
    """Yield the rows that one row of an export becomes in a table of the snapshot."""
    if into.table != "settings":
        lists = LISTS if into.table == "people" else ()
        row = {
            column: text
            for column, cell in into.cells.items()
            if (text := _translated(cell, flat, left, column in lists)) != ""
        }
        yield into.table, person_row(row, left.kinds) if into.table == "people" else row
        return
    service, scope = _word_of_row(into.service, flat, left, "service"), _scope(into, flat, left)
    if not service or not scope:
        return
    extra = {name: text for name, cell in into.extra.items() if (text := _translated(cell, flat, left)) != ""}
    for control, cell in into.cells.items():
        value = _translated(cell, flat, left)
        if value != "":
            yield "settings", {"service": service, "control": control, "scope": scope, "value": value, **extra}


def _scope(into: MappingTarget, flat: Mapping[str, str], left: Leftover) -> str:
    """Return the scope of a row's settings; "" where the mapping leaves it out, or where the row names no one."""
    level = _word_of_row(into.level, flat, left, "level")
    if level in ("", "organisation"):
        return level
    if level not in LEVELS:
        raise SourceFailed(f"{into.level.source} is {quoted(level)}, which is no level; {nearest(level, LEVELS)}")
    target = _translated(into.target, flat, left)
    return f"{level}:{target}" if target else ""


def _word_of_row(cell: Cell, flat: Mapping[str, str], left: Leftover, what: str) -> str:
    """Return the service or level of a row; "" where the mapping leaves the row out."""
    word = _translated(cell, flat, left)
    if not word and not flat.get(cell.source or ""):
        raise SourceFailed(f"says no {what}: {cell.source} is empty; write missing: beside it, or take rows by where:")
    return word


class _Words(str):
    """The words of a list, joined by `;`; no word has a `;` in it."""

    __slots__ = ()


def _translated(cell: Cell, flat: Mapping[str, str], left: Leftover, is_list: bool = False) -> str:
    """Return the text of a cell after the mapping's translation; "" leaves the cell empty."""
    if cell.source is None:
        return cell.value or ""
    raw = flat.get(cell.source, "")
    if raw == "":
        return cell.missing
    if is_list and (cell.separator or ";" in raw):
        if not cell.separator and not isinstance(raw, _Words):
            check_word(raw, cell.source, "write separator: ';' in the mapping if it holds several")
        words = [part.strip() for part in raw.split(cell.separator or ";")]
        for word in words:
            check_word(word, cell.source)
        of_word = replace(cell, separator="")
        translated = (_translated(of_word, {cell.source: word}, left) for word in words if word)
        return ";".join(filter(None, translated))
    if cell.separator:
        raw = "/" + "/".join(part.strip() for part in raw.split(cell.separator) if part.strip())
    if cell.dates:
        moment = date_of(raw, cell.dates)
        if moment is None:
            raise SourceFailed(f"{cell.source} is {quoted(raw)}, which is not of the form {quoted(cell.dates)}")
        return moment
    if cell.values is None:
        return raw
    if raw in cell.values:
        return cell.values[raw]
    left.values.setdefault(cell.source, Counter())[raw] += 1
    if cell.other is None:
        left.refused.add(cell.source)
    return cell.other or ""


def _flat(raw: Mapping[str, Any], prefix: str = "", depth: int = 0) -> dict[str, str]:
    """Return a raw object with its nested keys as `a.b`, lists as words joined by `;`."""
    found: dict[str, str] = {}
    for name, value in raw.items():
        path = f"{prefix}{name}"
        if isinstance(value, str):
            found[path] = value
        elif isinstance(value, dict) and depth < 20:
            found |= _flat(value, f"{path}.", depth + 1)
        elif value is not None:
            text = cell_text(value) or ""
            has_words = isinstance(value, list) and not any(isinstance(one, str) and ";" in one for one in value)
            found[path] = _Words(text) if has_words else text
    return found
