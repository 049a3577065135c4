"""Checks whether the data of a source can be believed.

A source must give something, distinguish people, give no less than last time, and read files that are not old.
Spec: gathering 2 and 4.
"""

from __future__ import annotations

import json
import time
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from ..core.words.faults import Faults, quoted
from ..files.binary import LARGEST_WRITTEN, read_bytes
from ..files.snapshot.manifest import NAME
from .columns import Columns, column_cells
from .interface import Context, Gathered, NamedSource, Row, SourceFailed, open_source

_FEWEST_LOST = 5  # rows; fewer are no shrinking
_WITH_ROWS = (".csv", ".jsonl", ".ndjson")


def check_age(named: NamedSource, context: Context) -> None:
    """Raise SourceFailed if a source reads a file that is older than `max_age_hours`."""
    if named.max_age_hours is None:
        return
    for path in (context.folder / name for name in named.paths):
        files = [file for file in path.rglob("*") if file.is_file()] if path.is_dir() else [path]
        modified = [file.stat().st_mtime for file in files if file.exists()]
        hours = (time.time() - max(modified)) / 3600 if modified else 0.0
        if hours > named.max_age_hours:
            raise SourceFailed(
                f"{path}: is {hours:,.0f} hours old, more than max_age_hours = {named.max_age_hours:g}; export it again"
            )


def check_content(named: NamedSource, gathered: Gathered) -> None:
    """Raise SourceFailed if a source gave nothing for a table it is there for, or one login to two people."""
    missing = next(_missing(named, gathered), None)
    if missing is not None and not named.may_be_empty:
        raise SourceFailed(f"gave no {missing}, for which it is there; if that may be so, write may_be_empty = true")
    _check_logins(gathered.tables.get("people", ()))


def _missing(named: NamedSource, gathered: Gathered) -> Iterator[str]:
    """Yield what a source did not give although it should."""
    gives = named.source.gives
    for table in sorted(gives.needed):
        if not gathered.tables.get(table):
            yield table
    if "settings" in gives.needed:
        services = {row.get("service") for row in gathered.tables.get("settings", ())}
        for service in gives.services or ():
            if service not in services:
                yield f"settings of {service}"
    if gathered.entries == 0:
        yield "entries"
    for name, count in line_counts(gathered).items():
        if not count:
            yield f"rows in {name}"


def line_counts(gathered: Gathered) -> dict[str, int]:
    """Return how many lines each copied CSV or JSON Lines file has, without the header of a CSV file."""
    files = {name: path for name, path in sorted(gathered.files.items()) if path.suffix.lower() in _WITH_ROWS}
    return {name: _line_count(path) for name, path in files.items()}


def _line_count(path: Path) -> int:
    count, last = 0, b"\n"
    with open_source(path) as stream:
        while part := stream.read(1 << 20):
            count += part.count(b"\n")
            last = part[-1:]
    count += last != b"\n"
    return max(count - (path.suffix.lower() == ".csv"), 0)


def _check_logins(people: Sequence[Row]) -> None:
    ids, logins = column_cells(people, "id"), column_cells(people, "login")
    folded = list(map(str.casefold, logins))
    if len(set(folded)) == len(folded):
        return
    first: dict[str, int] = {}
    for number, login in enumerate(folded):
        other = first.setdefault(login, number)
        if login and ids[other] != ids[number]:
            two = [f"{quoted(ids[row])} (login {quoted(logins[row])})" for row in (other, number)]
            raise SourceFailed(f"gave two people whose logins are one: {' and '.join(two)}; mend one of them there")


def filled_counts(gathered: Gathered) -> dict[str, dict[str, int]]:
    """Return, for each table and column, how many rows have something there."""
    counts = {}
    for table, rows in sorted(gathered.tables.items()):
        if isinstance(rows, Columns):
            counts[table] = {name: len(cells) - cells.count("") for name, cells in sorted(rows.cells.items())}
        else:
            counts[table] = dict(sorted(Counter(name for row in rows for name, cell in row.items() if cell).items()))
    return counts


def shrunk_sources(
    sources: Sequence[NamedSource], current: Mapping[str, Mapping[str, Any]], link: Path, snapshots: Path
) -> list[tuple[str, str]]:
    """Return the sources that gave much less than in the last snapshot for which they were whole, and how much less.

    `current` has for each source what a manifest says of it: `rows`, `lines` and `filled`.
    """
    limits = {named.name: named.shrink_limit for named in sources}
    manifests = _earlier_manifests(link, snapshots)
    shrunk = []
    for name, now in current.items():
        entries = (_whole_source(manifest, name) for manifest in manifests)
        before = next((entry for entry in entries if entry is not None), None)
        if before is not None:
            losses = [*_fewer_rows(before, now, limits[name]), *_emptied_columns(before, now)]
            shrunk += [(name, loss) for loss in losses]
    return shrunk


def _fewer_rows(before: Mapping[str, Any], now: Mapping[str, Any], limit: float) -> Iterator[str]:
    for key in ("rows", "lines"):
        current = _numbers(now.get(key))
        for table, count in sorted(_numbers(before.get(key)).items()):
            if key == "rows" and "." in table:
                continue  # a copied file, which "lines" counts
            left = current.get(table, 0)
            if count - left >= _FEWEST_LOST and (count - left) * 100 > count * limit:
                yield f"{left:,} {table if key == 'rows' else f'lines of {table}'} and {count:,} last time"


def _emptied_columns(before: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[str]:
    rows, filled, current = _numbers(before.get("rows")), before.get("filled"), now["filled"]
    for table, columns in filled.items() if isinstance(filled, dict) else ():
        count = rows.get(table, 0)
        for column, number in _numbers(columns).items():
            was_mostly_filled = count >= _FEWEST_LOST and 2 * number > count
            if was_mostly_filled and current.get(table) and not current[table].get(column):
                yield f"{table} without {column}, which {number:,} of {count:,} had last time"


def _numbers(value: Any) -> dict[str, int]:
    """Return the whole numbers of a JSON object."""
    entries = value.items() if isinstance(value, dict) else ()
    return {name: number for name, number in entries if isinstance(number, int) and not isinstance(number, bool)}


def _earlier_manifests(link: Path, snapshots: Path) -> list[Mapping[str, Any]]:
    """Return the manifests of the current snapshot and of those before it, the newest first."""
    folders = sorted((folder for folder in snapshots.iterdir() if folder.name[:2].isdigit()), reverse=True)
    manifests: list[Mapping[str, Any]] = []
    for folder in dict.fromkeys([link.resolve(), *(folder.resolve() for folder in folders)]):
        data = read_bytes(folder / NAME, NAME, Faults(), LARGEST_WRITTEN)
        try:
            manifest = None if data is None else json.loads(data)
        except ValueError:
            continue
        if isinstance(manifest, dict):
            manifests.append(manifest)
    return manifests


def _whole_source(manifest: Mapping[str, Any], name: str) -> Mapping[str, Any] | None:
    """Return a manifest's entry of a source that was read whole."""
    sources = manifest.get("sources")
    for source in sources if isinstance(sources, list) else ():
        if isinstance(source, dict) and source.get("name") == name and source.get("state") == "whole":
            return source
    return None
