"""Whether what a source gave can be believed: something where there must be something, people who are told apart, no more missing than
last time, and files that are not old.

Source: answers, L 73 and L 75 to L 77.
"""

from __future__ import annotations

import json
import time
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from ..core.words.faults import Faults, quoted
from ..files.binary import LARGEST_WRITTEN, read_bytes
from ..files.snapshot.manifest import NAME
from .columns import Columns, column_cells
from .interface import Context, Gathered, Named, Row, SourceFailed, open_source

_FEWEST = 5  # rows
Numbers = Mapping[str, Mapping[str, int]]


def must_be_recent(named: Named, context: Context) -> None:
    """Raises SourceFailed for a source that reads a file older than it may be."""
    if named.max_age_hours is None:
        return
    for text in named.paths:
        path = context.folder / text
        files = sorted(each for each in path.rglob("*") if each.is_file()) if path.is_dir() else [path]
        ages = [time.time() - each.stat().st_mtime for each in files if each.exists()]
        if ages and (hours := min(ages) / 3600) > named.max_age_hours:
            raise SourceFailed(
                f"{path}: is {hours:,.0f} hours old, more than max_age_hours = {named.max_age_hours:g}; export it again"
            )


def must_be_believed(named: Named, found: Gathered) -> None:
    """Raises SourceFailed for nothing where there must be something, and for people who cannot be told apart."""
    if not named.may_be_empty:
        for what in _nothing(named, found):
            raise SourceFailed(f"gave no {what}, for which it is there; if that may be so, write may_be_empty = true")
    _tell_apart(found.tables.get("people", ()))


def _nothing(named: Named, found: Gathered) -> Iterator[str]:
    gives = named.source.gives
    for table in sorted(gives.needed):
        if not found.tables.get(table):
            yield table
    if "settings" in gives.needed:
        have = {row.get("service") for row in found.tables.get("settings", ())}
        for service in gives.services or ():
            if service not in have:
                yield f"settings of {service}"
    if found.entries == 0:
        yield "entries"
    for name, path in sorted(found.files.items()):
        if path.suffix.lower() in (".csv", ".jsonl", ".ndjson") and not lines_of(path):
            yield f"rows in {name}"


def lines_of(path: Path) -> int:
    """How many lines a file has below its header (CSV), or at all."""
    many, last = 0, b"\n"
    with open_source(path) as stream:
        while part := stream.read(1 << 20):
            many += part.count(b"\n")
            last = part[-1:]
    many += last != b"\n"
    return max(many - (path.suffix.lower() == ".csv"), 0)


def _tell_apart(people: Sequence[Row]) -> None:
    """Raises SourceFailed for two people with ids of their own whose logins are one when case does not count."""
    ids, logins = column_cells(people, "id"), column_cells(people, "login")
    folded = list(map(str.casefold, logins))
    if len(set(folded)) == len(folded):
        return
    first: dict[str, int] = {}
    for number, (login, alike) in enumerate(zip(logins, folded, strict=True)):
        known = first.setdefault(alike, number)
        if known != number and login and ids[known] != ids[number]:
            two = [f"{quoted(ids[at])} (login {quoted(logins[at])})" for at in (known, number)]
            raise SourceFailed(f"gave two people whose logins are one: {' and '.join(two)}; mend one of them there")


def filled(found: Gathered) -> dict[str, dict[str, int]]:
    """Of each table, how many rows have something in each column."""
    made = {}
    for table, rows in sorted(found.tables.items()):
        if isinstance(rows, Columns):
            made[table] = {name: sum(map(bool, texts)) for name, texts in sorted(rows.cells.items())}
        else:
            made[table] = dict(sorted(Counter(name for row in rows for name, cell in row.items() if cell).items()))
    return made


def lines(gathered: Gathered) -> dict[str, int]:
    """Of each copied file with rows how many lines it has."""
    ends = (".csv", ".jsonl", ".ndjson")
    return {name: lines_of(path) for name, path in sorted(gathered.files.items()) if path.suffix.lower() in ends}


def shrunk(
    sources: Sequence[Named],
    now: Mapping[str, Mapping[str, Any]],
    link: Path,
    snapshots: Path,
    accepted: Collection[str],
) -> list[tuple[str, str]]:
    """The sources that gave much less than in the last snapshot in which they were whole, each with what to say.

    `now` says of each source what a manifest would: `rows`, `lines` and `filled`.
    """
    by_name, told = {named.name: named for named in sources}, []
    earlier = _earlier(link, snapshots)
    for name, mine in now.items():
        before = next((one for manifest in earlier if (one := _whole(manifest, name)) is not None), None)
        if before is not None and name not in accepted:
            what = [*_fewer(before, mine, by_name[name].shrink_limit), *_emptied(before, mine)]
            told += [(name, text) for text in what]
    return told


def _fewer(before: Mapping[str, Any], now: Mapping[str, Any], limit: float) -> Iterator[str]:
    for what in ("rows", "lines"):
        left = _numbers(now.get(what))
        for table, many in sorted(_numbers(before.get(what)).items()):
            if what == "rows" and "." in table:
                continue  # a file, told by its lines
            few = left.get(table, 0)
            if many - few >= _FEWEST and (many - few) * 100 > many * limit:
                yield f"{few:,} {table if what == 'rows' else f'lines of {table}'} and {many:,} last time"


def _emptied(before: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[str]:
    rows, full, still = _numbers(before.get("rows")), before.get("filled"), now["filled"]
    for table, columns in (full if isinstance(full, dict) else {}).items():
        many = rows.get(table, 0)
        for column, number in _numbers(columns).items():
            if many >= _FEWEST and 2 * number > many and still.get(table) and not still[table].get(column):
                yield f"{table} without {column}, which {number:,} of {many:,} had last time"


def _numbers(found: Any) -> dict[str, int]:
    return {
        name: number
        for name, number in (found.items() if isinstance(found, dict) else ())
        if isinstance(number, int) and not isinstance(number, bool)
    }


def _earlier(link: Path, snapshots: Path) -> list[Mapping[str, Any]]:
    """The manifests of the snapshot that is there and of those before it, the newest first."""
    folders = sorted((each for each in snapshots.iterdir() if each.name[:2].isdigit()), reverse=True)
    made: list[Mapping[str, Any]] = []
    for folder in dict.fromkeys([link.resolve(), *(each.resolve() for each in folders)]):
        text = read_bytes(folder / NAME, NAME, Faults(), LARGEST_WRITTEN)
        try:
            data = json.loads(text) if text is not None else None
        except ValueError:
            continue
        if isinstance(data, dict):
            made.append(data)
    return made


def _whole(manifest: Mapping[str, Any], name: str) -> Mapping[str, Any] | None:
    """What a manifest says of a source that was whole."""
    sources = manifest.get("sources")
    for one in sources if isinstance(sources, list) else ():
        if isinstance(one, dict) and one.get("name") == name and one.get("state") == "whole":
            return one
    return None
