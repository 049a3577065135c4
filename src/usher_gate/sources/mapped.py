"""Any CSV, JSON or JSON Lines export, by a mapping file (form mapping/1): which raw column is which column or control."""

from __future__ import annotations

import codecs
import csv
import json
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from io import TextIOWrapper
from pathlib import Path
from typing import Any

from ..core.words.faults import Fault, Faults, nearest, quoted, times
from ..core.words.times import parse_time
from ..files.faults import BadInput, stop_if_any
from ..files.jsoncells import cell_text
from ..files.tables.csv_ import other_delimiter
from ..files.yamltree import Cursor, read_yaml
from .interface import Context, Gathered, Gives, Row, SourceFailed, open_source
from .people import LISTS, Odd, check_word, date_of, person_row

LEVELS = ("organisation", "unit", "group", "person")
_HOW = ("missing", "other", "may-be-absent", "separator", "dates")
_EXPORT = ("delimiter", "encoding", "taken_at")
_KNOWN = (
    "people",
    "units",
    "groups",
    "members",
    "observations",
    "authenticators",
    "passes",
    "partners",
    "sign_ins",
    "meetings",
)


@dataclass(frozen=True)
class Cell:
    """Where a cell comes from: a raw column (with how its values translate), or a value of its own. `other` says what becomes of
    a raw value that is not spoken of: None refuses it, "" leaves the cell out. `absent` says that no row of the export may have the raw
    column; `separator` is what stands between the units of a path."""

    source: str | None = None
    value: str | None = None
    values: Mapping[str, str] | None = None
    missing: str = ""
    other: str | None = None
    absent: bool = False
    separator: str = ""
    dates: str = ""  # how a date is written, as strptime has it


@dataclass(frozen=True)
class Into:
    """One table that the rows go into: cells by column, or, for the settings of a service, by control."""

    table: str
    cells: Mapping[str, Cell]
    service: str = ""
    level: str = ""
    target: Cell = field(default_factory=Cell)
    extra: Mapping[str, Cell] = field(default_factory=dict)


@dataclass(frozen=True)
class Mapping1:
    """A mapping file."""

    rows: str
    into: tuple[Into, ...]
    ignore: frozenset[str]
    delimiter: str = ""
    encoding: str = "utf-8"
    taken_at: str = ""

    @property
    def cells(self) -> list[Cell]:
        """All cells."""
        return [cell for into in self.into for cell in (*into.cells.values(), *into.extra.values(), into.target)]

    @property
    def spoken(self) -> frozenset[str]:
        """The raw columns that it speaks of."""
        return self.ignore | {cell.source for cell in self.cells if cell.source}

    @property
    def expected(self) -> frozenset[str]:
        """The raw columns that some row of the export has to have."""
        return frozenset(cell.source for cell in self.cells if cell.source and not cell.absent)


@dataclass
class Leftover:
    """What a mapping does not speak of: raw columns with how many rows fill them, and raw values by column."""

    columns: Counter[str] = field(default_factory=Counter)
    values: dict[str, Counter[str]] = field(default_factory=dict)
    refused: set[str] = field(default_factory=set)
    lost: dict[str, str] = field(default_factory=dict)  # raw columns that no row has, each with what would be right
    kinds: Odd = field(default_factory=Odd)


def read_mapping(path: Path) -> Mapping1:
    """Reads a mapping file; raises BadInput."""
    faults = Faults()
    top = read_yaml(path, str(path), "mapping/1", faults)
    fields = top.fields(("usher-gate", "into"), ("rows", "ignore", *_EXPORT)) if top is not None else {}
    rows = fields["rows"].text("a path such as data.items") if "rows" in fields else ""
    ignore = frozenset(fields["ignore"].texts("a column")) if "ignore" in fields else frozenset[str]()
    into = tuple(_into(item) for item in fields["into"].items(1)) if "into" in fields else ()
    delimiter = fields["delimiter"].text("a delimiter") if "delimiter" in fields else ""
    if delimiter and len(delimiter.replace("\\t", "\t")) != 1:
        fields["delimiter"].fault(f"{quoted(delimiter)} is no single character; write one such as ';' or '\\t'")
    encoding = fields["encoding"].text("an encoding") if "encoding" in fields else "utf-8"
    if encoding and not _is_encoding(encoding):
        fields["encoding"].fault(f"there is no encoding {quoted(encoding)}; write one such as utf-8, latin-1 or utf-16")
    taken = fields["taken_at"].fields(("from",)) if "taken_at" in fields else {}
    taken_at = taken["from"].text("where the export says when it was taken") if "from" in taken else ""
    stop_if_any(faults)
    every = (rows or "", into, ignore, (delimiter or "").replace("\\t", "\t"), encoding or "utf-8", taken_at or "")
    return Mapping1(*every)


def _is_encoding(name: str) -> bool:
    try:
        return bool(codecs.lookup(name).name)
    except (LookupError, ValueError):
        return False


def _into(item: Cursor) -> Into:
    if "settings" in item.entries():
        fields = item.fields(
            ("settings", "scope", "controls"), ("pinned", "rank", "active", "changed_at", "note", "set")
        )
        service = fields["settings"].text("a service") if "settings" in fields else ""
        scope = fields["scope"].fields(("level",), ("from", "values", *_HOW)) if "scope" in fields else {}
        level = scope["level"].choice(LEVELS) if "level" in scope else ""
        if level and (level == "organisation") == ("from" in scope):
            fields["scope"].fault(
                "a level other than organisation says from which column its unit, group or person comes, with from:"
            )
        controls = {
            name: _cell(entry) for name, entry in (fields["controls"].entries() if "controls" in fields else {}).items()
        }
        names = ("pinned", "rank", "active", "changed_at", "note", "set")
        extra: dict[str, Cell] = {str(name): _cell(fields[name]) for name in names if name in fields}
        return Into("settings", controls, service or "", level or "", _cell_of(scope), extra)
    fields = item.fields(("table", "columns"))
    table = fields["table"].choice(_KNOWN) if "table" in fields else None
    return Into(
        table or "",
        {name: _cell(entry) for name, entry in (fields["columns"].entries() if "columns" in fields else {}).items()},
    )


def _cell(place: Cursor) -> Cell:
    if not place.is_mapping:
        return Cell(source=place.text("a raw column"))
    found = place.fields((), ("from", "value", "values", *_HOW))
    if ("from" in found) == ("value" in found):
        place.fault("write either from: COLUMN or value: TEXT")
    return _cell_of(found)


def _cell_of(found: Mapping[str, Cursor]) -> Cell:
    text = {
        name: found[name].text("a text") if name in found else None for name in ("from", "value", "missing", "other")
    }
    values = (
        {name: entry.text("a value") or "" for name, entry in found["values"].entries().items()}
        if "values" in found
        else None
    )
    other = text["other"]
    absent = "may-be-absent" in found and bool(found["may-be-absent"].truth())
    separator = found["separator"].text("a separator") if "separator" in found else ""
    other = "" if other == "leave" else other
    dates = found["dates"].text("how a date is written, such as %d.%m.%Y") if "dates" in found else ""
    return Cell(text["from"], text["value"], values, text["missing"] or "", other, absent, separator or "", dates or "")


class Mapped:
    """An export and its mapping."""

    def __init__(self, path: Path, mapping: Path) -> None:
        self._path, self._mapping = path, mapping
        self.gives = Gives(frozenset(("settings",)), None)

    def prepare(self, folder: Path) -> None:
        """Reads the mapping, so that what the source gives is known even if the export cannot be read."""
        self.mapping = read_mapping(folder / self._mapping)
        services = {into.service for into in self.mapping.into if into.table == "settings"}
        given = frozenset(into.table for into in self.mapping.into)
        self.gives = Gives(given, tuple(sorted(services)), needed=given)

    def gather(self, context: Context) -> Gathered:
        """The rows; raises SourceFailed for a raw value that the mapping does not speak of."""
        found, left = self.read(context)
        if left.lost:
            column, right = next(iter(sorted(left.lost.items())))
            raise SourceFailed(
                f"{self._path}: no row has {quoted(column)}, of which {self._mapping} speaks; {right} "
                "(or write may-be-absent: true beside it)"
            )
        if left.refused:
            column = sorted(left.refused)[0]
            word, number = sorted(left.values[column].items(), key=lambda item: (-item[1], item[0]))[0]
            raise SourceFailed(
                f"{self._path}: {column} holds {quoted(word)} ({times(number)}), of which {self._mapping} does not speak; "
                "add it to values, or write other: leave (usher-gate gather --try lists all)"
            )
        if left.columns:
            found.notes.append(
                f"{self._path}: columns that the mapping does not speak of: {', '.join(sorted(left.columns))}"
            )
        for column, words in sorted(left.values.items()):
            found.notes.append(
                f"{self._path}: {column}: left out {', '.join(quoted(word) for word in sorted(words)[:10])}"
            )
        return found

    def read(self, context: Context) -> tuple[Gathered, Leftover]:
        """The rows, and what is left over."""
        path, found, left = context.folder / self._path, Gathered(), Leftover()
        rows: dict[str, list[Row]] = {into.table: [] for into in self.mapping.into}
        found.tables.update(rows)
        spoken, expected, seen = self.mapping.spoken, set(self.mapping.expected), set[str]()
        for number, raw in enumerate(_raw_rows(path, self.mapping, found), 1):
            flat = _flat(raw)
            if len(seen) < 10_000:
                seen.update(flat)
            expected -= flat.keys()
            for name, value in flat.items():
                if name not in spoken and value != "":
                    left.columns[name] += 1
            try:
                for into in self.mapping.into:
                    for table, row in _rows_of(into, flat, left):
                        rows[table].append(row)
            except SourceFailed as error:
                raise SourceFailed(f"{path}: row {number}: {error}") from None
            if number % 10_000 == 0:
                context.progress("rows", number, 0)
        left.lost = {column: nearest(column, seen - spoken or seen) for column in expected} if seen else {}
        found.notes += left.kinds.notes()
        return found, left


def _rows_of(into: Into, flat: Mapping[str, str], left: Leftover) -> Iterator[tuple[str, Row]]:
    if into.table != "settings":
        lists = LISTS if into.table == "people" else ()
        row = {
            column: text
            for column, cell in into.cells.items()
            if (text := _translated(cell, flat, left, column in lists)) != ""
        }
        yield into.table, person_row(row, left.kinds) if into.table == "people" else row
        return
    target = _translated(into.target, flat, left) if into.level != "organisation" else ""
    if into.level != "organisation" and not target:
        return
    scope = into.level if into.level == "organisation" else f"{into.level}:{target}"
    extra = {name: text for name, cell in into.extra.items() if (text := _translated(cell, flat, left)) != ""}
    for control, cell in into.cells.items():
        value = _translated(cell, flat, left)
        if value != "":
            yield "settings", {"service": into.service, "control": control, "scope": scope, "value": value, **extra}


class _Words(str):
    """The words of a list, joined by `;`; no word has a `;` in it."""

    __slots__ = ()


def _translated(cell: Cell, flat: Mapping[str, str], left: Leftover, is_list: bool = False) -> str:
    if cell.source is None:
        return cell.value or ""
    raw = flat.get(cell.source, "")
    if raw == "":
        return cell.missing
    if is_list and (cell.separator or ";" in raw):
        if not cell.separator and not isinstance(raw, _Words):
            check_word(raw, cell.source, "write separator: ';' in the mapping if it holds several")
        words = [part.strip() for part in raw.split(cell.separator or ";")]
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
    """A raw object with its nested keys as `a.b`, lists as words joined by `;`."""
    found: dict[str, str] = {}
    for name, value in raw.items():
        path = f"{prefix}{name}"
        if isinstance(value, dict) and depth < 20:
            found |= _flat(value, f"{path}.", depth + 1)
        elif value is not None:
            text = cell_text(value) or ""
            has_words = isinstance(value, list) and not any(isinstance(one, str) and ";" in one for one in value)
            found[path] = _Words(text) if has_words else text
    return found


def _raw_rows(path: Path, mapping: Mapping1, found: Gathered) -> Iterator[Mapping[str, Any]]:
    try:
        if path.suffix in (".csv", ".tsv", ".txt"):
            yield from _csv_rows(path, mapping, found)
        elif path.suffix in (".jsonl", ".ndjson"):
            with _opened(path, mapping) as stream:
                for line, text in enumerate(stream, 1):
                    if text.strip():
                        yield _object(_json(text, f"{path}:{line}"), path, line)
        elif path.suffix == ".json":
            yield from _json_rows(path, mapping, found)
        else:
            raise SourceFailed(f"{path}: is of no known kind; a table is .csv, .json, .jsonl or .ndjson")
    except OSError as error:
        raise SourceFailed(f"{path}: cannot be read ({error.strerror})") from None
    except UnicodeError:
        raise SourceFailed(_not_in(path, mapping.encoding)) from None
    except (json.JSONDecodeError, RecursionError) as error:
        where = f":{error.lineno}" if isinstance(error, json.JSONDecodeError) and path.suffix == ".json" else ""
        raise SourceFailed(f"{path}{where}: is not JSON") from None


def _json(text: str, where: str) -> Any:
    """Return the value of a JSON text; raises SourceFailed for an object that has a key twice."""

    def unique(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        entries = dict(pairs)
        if len(entries) < len(pairs):
            twice = next(key for key, number in Counter(key for key, _ in pairs).items() if number > 1)
            raise SourceFailed(f"{where}: has an object with the key {quoted(twice)} twice")
        return entries

    return json.loads(text, object_pairs_hook=unique)


def _opened(path: Path, mapping: Mapping1, newline: str | None = None) -> TextIOWrapper:
    encoding = "utf-8-sig" if mapping.encoding.casefold() in ("utf-8", "utf8") else mapping.encoding
    return TextIOWrapper(open_source(path), encoding, newline=newline)


def _not_in(path: Path, encoding: str) -> str:
    """What to say of a file that is not in the encoding that was said: the line, and what it may be."""
    with open_source(path) as stream:
        data = stream.read(1 << 20)
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return f"{path}:1: is UTF-16 and not {encoding}; write encoding: utf-16 in the mapping"
    try:
        data.decode(encoding)
        line = 0
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
    where = f"{path}:{line}" if line else f"{path}"
    return f"{where}: is not {encoding} text; write its encoding in the mapping, such as encoding: latin-1"


def _csv_rows(path: Path, mapping: Mapping1, found: Gathered) -> Iterator[Mapping[str, str]]:
    with _opened(path, mapping, "") as stream:
        reader = csv.reader(
            stream, strict=True, delimiter=mapping.delimiter or ("\t" if path.suffix == ".tsv" else ",")
        )
        try:
            header = next(reader, [])
            if twice := [name for name, number in Counter(header).items() if number > 1 and name in mapping.spoken]:
                raise SourceFailed(f"{path}:1: has two columns {quoted(twice[0])}; take one of them out")
            if not mapping.delimiter and len(header) == 1 and (other := other_delimiter(header[0])):
                raise SourceFailed(
                    f"{path}:1: its cells are separated by {other[1]}; write delimiter: {other[0]} in the mapping"
                )
            for row in reader:
                if row and len(row) != len(header):
                    raise SourceFailed(
                        f"{path}:{reader.line_num}: has {len(row)} cells where the first line has {len(header)}"
                    )
                if row:
                    one = dict(zip(header, row, strict=True))
                    if mapping.taken_at:
                        _taken(one.get(mapping.taken_at), path, mapping, found)
                    yield one
        except csv.Error as error:
            raise SourceFailed(f"{path}:{reader.line_num}: is not CSV here ({error})") from None


def _taken(text: Any, path: Path, mapping: Mapping1, found: Gathered) -> None:
    """Keeps when the export was taken; of several times the earliest."""
    time = parse_time(text) if isinstance(text, str) else None
    if time is None:
        raise SourceFailed(
            f"{path}: {mapping.taken_at} is {quoted(str(text))}, which is no time with an offset; it should be as 2026-11-20T06:00:00Z"
        )
    found.taken_at = time if found.taken_at is None else min(found.taken_at, time)


def _at(found: Any, place: str, path: Path, what: str) -> Any:
    for part in place.split(".") if place else ():
        if not isinstance(found, dict) or part not in found:
            raise SourceFailed(
                f"{path}: has no {what} {place}; {nearest(part, found if isinstance(found, dict) else ())}"
            )
        found = found[part]
    return found


def _json_rows(path: Path, mapping: Mapping1, gathered: Gathered) -> Iterator[Mapping[str, Any]]:
    with _opened(path, mapping) as stream:
        whole = _json(stream.read(), str(path))
    if mapping.taken_at:
        _taken(_at(whole, mapping.taken_at, path, "time"), path, mapping, gathered)
    found = _at(whole, mapping.rows, path, "rows at")
    if isinstance(found, dict):  # one object is one row: what holds for the whole organisation
        lists = [
            name for name, value in found.items() if isinstance(value, list) and value and isinstance(value[0], dict)
        ]
        if lists and not mapping.rows:
            raise SourceFailed(f"{path}: holds its rows at {' or '.join(sorted(lists)[:3])}; say by rows: which")
        yield found
        return
    if not isinstance(found, list):
        raise SourceFailed(
            f"{path}: holds no list{' at ' + mapping.rows if mapping.rows else ''}; say by rows: where it stands"
        )
    for number, entry in enumerate(found, 1):
        yield _object(entry, path, number)


def _object(found: Any, path: Path, number: int) -> Mapping[str, Any]:
    if not isinstance(found, dict):
        raise BadInput([Fault(str(path), number, "is no object; a table has one object for each row")])
    return found


__all__ = ["LISTS", "Leftover", "Mapped", "read_mapping"]
