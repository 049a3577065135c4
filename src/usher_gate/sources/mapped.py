"""Any CSV, JSON or JSON Lines export, by a mapping file (form mapping/1): which raw column is which column or control."""

from __future__ import annotations

import csv
import json
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from io import TextIOWrapper
from pathlib import Path
from typing import Any

from ..core.words.faults import Fault, Faults, nearest, quoted
from ..files.faults import BadInput, stop_if_any
from ..files.jsoncells import cell_text
from ..files.yamltree import Cursor, read_yaml
from .interface import Context, Gathered, Gives, Row, SourceFailed, open_source
from .people import LISTS, Odd, person_row

LEVELS = ("organisation", "unit", "group", "person")
_KNOWN = ("people", "groups", "members", "observations", "authenticators", "passes", "partners", "sign_ins", "meetings")


@dataclass(frozen=True)
class Cell:
    """Where a cell comes from: a raw column (with how its values translate), or a value of its own. `other` says what becomes of
    a raw value that is not spoken of: None refuses it, "" leaves the cell out."""

    source: str | None = None
    value: str | None = None
    values: Mapping[str, str] | None = None
    missing: str = ""
    other: str | None = None


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

    @property
    def spoken(self) -> frozenset[str]:
        """The raw columns that it speaks of."""
        cells = [cell for into in self.into for cell in (*into.cells.values(), *into.extra.values(), into.target)]
        return self.ignore | {cell.source for cell in cells if cell.source}


@dataclass
class Leftover:
    """What a mapping does not speak of: raw columns with how many rows fill them, and raw values by column."""

    columns: Counter[str] = field(default_factory=Counter)
    values: dict[str, Counter[str]] = field(default_factory=dict)
    refused: set[str] = field(default_factory=set)
    kinds: Odd = field(default_factory=Odd)


def read_mapping(path: Path) -> Mapping1:
    """Reads a mapping file; raises BadInput."""
    faults = Faults()
    top = read_yaml(path, str(path), "mapping/1", faults)
    fields = top.fields(("usher-gate", "into"), ("rows", "ignore")) if top is not None else {}
    rows = fields["rows"].text("a path such as data.items") if "rows" in fields else ""
    ignore = frozenset(fields["ignore"].texts("a column")) if "ignore" in fields else frozenset[str]()
    into = tuple(_into(item) for item in fields["into"].items(1)) if "into" in fields else ()
    stop_if_any(faults)
    return Mapping1(rows or "", into, ignore)


def _into(item: Cursor) -> Into:
    if "settings" in item.entries():
        fields = item.fields(("settings", "scope", "controls"), ("pinned", "rank", "active", "changed_at", "note"))
        service = fields["settings"].text("a service") if "settings" in fields else ""
        scope = fields["scope"].fields(("level",), ("from", "values", "missing", "other")) if "scope" in fields else {}
        level = scope["level"].choice(LEVELS) if "level" in scope else ""
        if level and (level == "organisation") == ("from" in scope):
            fields["scope"].fault(
                "a level other than organisation says from which column its unit, group or person comes, with from:"
            )
        controls = {
            name: _cell(entry) for name, entry in (fields["controls"].entries() if "controls" in fields else {}).items()
        }
        names = ("pinned", "rank", "active", "changed_at", "note")
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
    found = place.fields((), ("from", "value", "values", "missing", "other"))
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
    return Cell(text["from"], text["value"], values, text["missing"] or "", "" if other == "leave" else other)


class Mapped:
    """An export and its mapping."""

    def __init__(self, path: Path, mapping: Path) -> None:
        self._path, self._mapping = path, mapping
        self.gives = Gives(frozenset(("settings",)), None)

    def prepare(self, folder: Path) -> None:
        """Reads the mapping, so that what the source gives is known even if the export cannot be read."""
        self.mapping = read_mapping(folder / self._mapping)
        services = {into.service for into in self.mapping.into if into.table == "settings"}
        self.gives = Gives(frozenset(into.table for into in self.mapping.into), tuple(sorted(services)))

    def gather(self, context: Context) -> Gathered:
        """The rows; raises SourceFailed for a raw value that the mapping does not speak of."""
        found, left = self.read(context)
        if left.refused:
            column = sorted(left.refused)[0]
            word, number = sorted(left.values[column].items(), key=lambda item: (-item[1], item[0]))[0]
            raise SourceFailed(
                f"{self._path}: {column} holds {quoted(word)} ({number} times), of which {self._mapping} does not speak; "
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
        for into in self.mapping.into:
            found.tables.setdefault(into.table, [])
        spoken = self.mapping.spoken
        for number, raw in enumerate(_raw_rows(path, self.mapping.rows), 1):
            flat = _flat(raw)
            for name, value in flat.items():
                if name not in spoken and value != "":
                    left.columns[name] += 1
            for into in self.mapping.into:
                for table, row in _rows_of(into, flat, left):
                    found.tables[table].append(row)
            if number % 10_000 == 0:
                context.progress("rows", number, 0)
        found.notes += left.kinds.notes()
        return found, left


def _rows_of(into: Into, flat: Mapping[str, str], left: Leftover) -> Iterator[tuple[str, Row]]:
    if into.table != "settings":
        row = {column: text for column, cell in into.cells.items() if (text := _translated(cell, flat, left)) != ""}
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


def _translated(cell: Cell, flat: Mapping[str, str], left: Leftover) -> str:
    if cell.source is None:
        return cell.value or ""
    raw = flat.get(cell.source, "")
    if raw == "":
        return cell.missing
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
            found[path] = cell_text(value) or ""
    return found


def _raw_rows(path: Path, rows: str) -> Iterator[Mapping[str, Any]]:
    try:
        if path.suffix == ".csv":
            yield from _csv_rows(path)
        elif path.suffix in (".jsonl", ".ndjson"):
            with TextIOWrapper(open_source(path), "utf-8-sig") as stream:
                for line, text in enumerate(stream, 1):
                    if text.strip():
                        yield _object(json.loads(text), path, line)
        elif path.suffix == ".json":
            yield from _json_rows(path, rows)
        else:
            raise SourceFailed(f"{path}: is of no known kind; a table is .csv, .json, .jsonl or .ndjson")
    except OSError as error:
        raise SourceFailed(f"{path}: cannot be read ({error.strerror})") from None
    except UnicodeDecodeError:
        raise SourceFailed(f"{path}: is not UTF-8 text") from None
    except (json.JSONDecodeError, RecursionError) as error:
        where = f":{error.lineno}" if isinstance(error, json.JSONDecodeError) and path.suffix == ".json" else ""
        raise SourceFailed(f"{path}{where}: is not JSON") from None


def _csv_rows(path: Path) -> Iterator[Mapping[str, str]]:
    with TextIOWrapper(open_source(path), "utf-8-sig", newline="") as stream:
        reader = csv.reader(stream, strict=True)
        try:
            header = next(reader, [])
            for row in reader:
                if row and len(row) != len(header):
                    raise SourceFailed(
                        f"{path}:{reader.line_num}: has {len(row)} cells where the first line has {len(header)}"
                    )
                if row:
                    yield dict(zip(header, row, strict=True))
        except csv.Error as error:
            raise SourceFailed(f"{path}:{reader.line_num}: is not CSV here ({error})") from None


def _json_rows(path: Path, rows: str) -> Iterator[Mapping[str, Any]]:
    with open_source(path) as stream:
        found = json.loads(stream.read().decode("utf-8-sig"))
    for part in rows.split(".") if rows else ():
        if not isinstance(found, dict) or part not in found:
            known = found if isinstance(found, dict) else ()
            raise SourceFailed(f"{path}: has no {rows}; {nearest(part, known)}")
        found = found[part]
    if not isinstance(found, list):
        raise SourceFailed(f"{path}: holds no list{' at ' + rows if rows else ''}; say by rows: where it stands")
    for number, entry in enumerate(found, 1):
        yield _object(entry, path, number)


def _object(found: Any, path: Path, number: int) -> Mapping[str, Any]:
    if not isinstance(found, dict):
        raise BadInput([Fault(str(path), number, "is no object; a table has one object for each row")])
    return found


__all__ = ["LISTS", "Leftover", "Mapped", "read_mapping"]
