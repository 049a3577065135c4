"""The rows of an export: a CSV, JSON or JSON Lines file."""

from __future__ import annotations

import csv
import json
from collections import Counter
from collections.abc import Iterator, Mapping
from io import TextIOWrapper
from pathlib import Path
from typing import Any

from ..core.words.faults import Fault, nearest, quoted
from ..core.words.times import parse_time
from ..files.faults import BadInput
from ..files.tables.csv_ import other_delimiter
from .interface import Gathered, SourceFailed, open_source
from .mapping import Mapping1

TEXT_SUFFIXES = (".csv", ".tsv", ".txt")  # whose cells are texts
SUFFIXES = (*TEXT_SUFFIXES, ".jsonl", ".ndjson", ".json")


def raw_rows(path: Path, mapping: Mapping1, found: Gathered) -> Iterator[Mapping[str, Any]]:
    """Yield the rows of an export; keep in `found` when it was taken. Raises SourceFailed or BadInput."""
    try:
        if path.suffix in TEXT_SUFFIXES:
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
    """Return what to say of a file that is not in the encoding that was said: the line, and what it may be."""
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
    """Yield the rows of a delimited export; raises SourceFailed with the line of the first fault."""
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
            f"{path}: {mapping.taken_at} is {quoted(str(text))}, which is no time with an offset; "
            "it should be as 2026-11-20T06:00:00Z"
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
    """Yield the rows of a JSON export from the list at `mapping.rows`; raises SourceFailed if there is none."""
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
            f"{path}: holds no list{' at ' + mapping.rows if mapping.rows else ''}; say by rows: where it is"
        )
    for number, entry in enumerate(found, 1):
        yield _object(entry, path, number)


def _object(found: Any, path: Path, number: int) -> Mapping[str, Any]:
    if not isinstance(found, dict):
        raise BadInput([Fault(str(path), number, "is no object; a table has one object for each row")])
    return found
