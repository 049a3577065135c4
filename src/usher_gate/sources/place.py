"""Putting a snapshot in place: built in a new folder, validated, then named by one rename.

Earlier ones are kept for a while.

`snapshot` is a link to one folder in `snapshots/`. To make a link and rename it over the old one is one step for the
system: a call that is stopped before it leaves the old snapshot, one that is stopped after it the new one.
"""

from __future__ import annotations

import csv
import errno
import os
import re
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime
from operator import itemgetter
from pathlib import Path
from typing import Any

from ..core.organisation.build.credentials import AUTHENTICATORS, PASSES
from ..core.organisation.build.groups import GROUPS, MEMBERS
from ..core.organisation.build.meetings import MEETINGS
from ..core.organisation.build.partners import PARTNERS
from ..core.organisation.build.people import PEOPLE
from ..core.organisation.build.settings import OBSERVATIONS, SETTINGS
from ..core.organisation.build.table import Spec
from ..core.organisation.build.units import UNITS
from ..core.words.faults import nearest, quoted
from ..files.binary import read_text
from ..files.faults import BadInput, UsherError
from ..files.sign_ins.interface import SIGN_INS
from ..files.snapshot import manifest as form
from ..files.snapshot.parsed import parsed_path
from ..files.write import Busy, exchange, new_bytes, sync_folder, writing
from .columns import Columns, column_names
from .interface import Gathered, Row, SourceFailed, open_source
from .join import Joined
from .people import columns

_TABLES = (UNITS, GROUPS, MEMBERS, SETTINGS, OBSERVATIONS, AUTHENTICATORS, PASSES, PARTNERS, SIGN_INS, MEETINGS)
_SPECS: Mapping[str, Spec] = {spec.name: spec for spec in _TABLES}


@contextmanager
def alone(snapshots: Path) -> Iterator[None]:
    """While this lasts, no other gather works in the folder; raises Busy."""
    import fcntl

    with writing(snapshots):
        snapshots.mkdir(mode=0o700, parents=True, exist_ok=True)
    with writing(snapshots / ".lock"):
        lock = os.open(snapshots / ".lock", os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield
    except BlockingIOError:
        raise Busy(f"another gather is at work in {snapshots}; wait for it") from None
    finally:
        os.close(lock)


def build(
    folder: Path,
    joined: Joined,
    sources: Sequence[tuple[str, Gathered]],
    taken_at: datetime,
    describe: Sequence[Mapping[str, Any]],
    missing: Sequence[form.Missing],
    finished_at: str,
    services: Sequence[str],
) -> None:
    """Writes the snapshot into an empty folder, each file readable by the owner only, the manifest last.

    Raises UsherError for tables that do not fit together, CannotWrite where the disk is full or broken.
    """
    entries = []
    for table, rows in sorted(joined.tables.items()):
        path = folder / f"{table}.csv"
        _write_table(path, table, rows)
        entries.append(form.file_entry(path, len(rows)))
    stamp = taken_at.strftime("%Y-%m-%dT%H:%M:%SZ")
    for source, gathered in sources:
        for name, path in gathered.files.items():
            target = folder / name
            if target.exists() or any(
                (folder / f"{target.stem}{ending}").exists() for ending in (".csv", ".jsonl", ".parquet")
            ):
                raise UsherError(
                    f"{_giver(target.stem, source, sources)} and {source} both give {target.stem}; leave one out"
                )
            with new_bytes(target) as stream:
                if name == "organisation.yaml":
                    stream.write(_stamped(_text_of(path), stamp, path).encode())
                else:
                    with open_source(path) as original:
                        shutil.copyfileobj(original, stream, 1 << 20)
            entries.append(form.file_entry(target, None))
    entries.sort(key=lambda entry: str(entry["name"]))
    with new_bytes(folder / form.NAME) as stream:
        stream.write(form.manifest_text(stamp, finished_at, describe, entries, missing, services).encode())


def _giver(table: str, but: str, sources: Sequence[tuple[str, Gathered]]) -> str:
    """Return the first other source that gives a table, as rows or as a file."""
    return next(
        name
        for name, gathered in sources
        if name != but and (gathered.tables.get(table) or any(Path(file).stem == table for file in gathered.files))
    )


def _text_of(path: Path) -> str:
    try:
        return read_text(path)
    except BadInput as error:
        raise SourceFailed(str(error.faults[0])) from None


# Columns whose empty cell says what their absence says, and that a change may have to write in.
_ALWAYS = {"settings": {"pinned", "rank"}, "members": {"type"}, "partners": {"home_factor"}}


def key_at(path: Path, line: int) -> tuple[str, ...]:
    """Return the required cells of the row at a line of a table that `build` wrote; () for none.

    These are id and login of a person, group and member of a membership, and so on.
    """
    spec = PEOPLE if path.stem == PEOPLE.name else _SPECS.get(path.stem)
    if spec is None or line < 2:
        return ()
    with path.open(encoding="utf-8", newline="") as stream:
        reader = csv.DictReader(stream)
        for row in reader:
            if reader.line_num >= line:
                return tuple(cell for column in spec.required if (cell := row.get(column)))
    return ()


def odd_columns(tables: Mapping[str, Sequence[Row]]) -> list[str]:
    """Return what is wrong with the columns of some tables, in words."""
    found = []
    for table, rows in tables.items():
        spec = PEOPLE if table == "people" else _SPECS[table]
        for column in sorted(column_names(rows)):
            if not spec.knows(column):
                right = nearest(column, (*spec.required, *spec.optional))
                found.append(f"{table} has no column {quoted(column)}; {right}")
    return found


def _columns_of(table: str, given: set[str]) -> list[str]:
    return columns(given) if table == "people" else _ordered(_SPECS[table], given | _ALWAYS.get(table, set()))


def _write_table(path: Path, table: str, rows: Sequence[Row]) -> None:
    import io

    names = _columns_of(table, column_names(rows))
    if wrong := odd_columns({table: rows}):
        raise UsherError(f"a source gives a column that is not there: {wrong[0]}")
    with new_bytes(path) as stream:
        out = io.TextIOWrapper(stream, "utf-8", newline="")
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(names)
        writer.writerows(sorted(_cells(rows, names)))
        out.flush()
        out.detach()


def _cells(rows: Sequence[Row], names: Sequence[str]) -> Iterable[tuple[str, ...]]:
    """Return the rows as cells in the order of the columns."""
    if isinstance(rows, Columns):
        return zip(*(rows.column(name) for name in names), strict=True)
    if len(names) > 1 and all(len(row) == len(names) for row in rows):
        return list(map(itemgetter(*names), rows))
    return [tuple([row.get(name, "") for name in names]) for row in rows]


def _ordered(spec: Spec, given: set[str]) -> list[str]:
    """Return the columns that must be there and those that someone gave, in the table's order."""
    return [*spec.required, *(name for name in spec.optional if name in given)]


def _stamped(text: str, stamp: str, path: Path) -> str:
    """organisation.yaml with the time of this gathering, and the word that it was gathered."""
    for key, value in (("taken_at", stamp), (form.GATHERED, "true")):
        stamped, number = re.subn(rf"(?m)^{key}:.*$", f"{key}: {value}", text)
        if number > 1:
            raise UsherError(f"{path}: has {number} lines of {key}; keep one")
        text = stamped if number else text.rstrip("\n") + f"\n{key}: {value}\n"
    return text


def put_in_place(folder: Path, snapshots: Path, link: Path, name: str) -> Path:
    """Gives a built folder its name, and makes `link` lead to it."""
    final = snapshots / name
    number = 1
    while final.exists():
        number += 1
        final = snapshots / f"{name}-{number}"
    with writing(final):
        folder.rename(final)
    sync_folder(snapshots)
    with writing(link):
        _lead_to(final, snapshots, link, name)
    sync_folder(link.parent)
    return final


def _lead_to(final: Path, snapshots: Path, link: Path, name: str) -> None:
    """Makes `link` lead to a snapshot; a folder that is there is kept beside the others."""
    fresh = link.with_name(f".{link.name}.new")
    if fresh.is_dir() and not fresh.is_symlink():  # someone was stopped between the two steps below
        fresh.rename(snapshots / f"before-{name}-{os.getpid()}")
    fresh.unlink(missing_ok=True)
    fresh.symlink_to(os.path.relpath(final, link.parent))
    if link.is_dir() and not link.is_symlink():  # a folder that someone made by hand: it is kept beside the others
        try:
            exchange(fresh, link)
        except OSError as error:
            fresh.unlink(missing_ok=True)
            if error.errno in (errno.ENOSYS, errno.EINVAL, errno.EPERM):
                raise UsherError(
                    f"{link} is a folder, and this system cannot swap it for a link in one step; move it away first"
                ) from None
            raise
        fresh.rename(snapshots / f"before-{name}")
    else:
        fresh.replace(link)


def prune(snapshots: Path, current: Path, keep: int) -> int:
    """Takes out all but the newest earlier snapshots; returns how many went."""
    names = sorted(
        folder for folder in snapshots.iterdir() if folder.is_dir() and re.match(r"\d{4}-\d\d-\d\dT", folder.name)
    )
    old = [name for name in names if name.name != current.name]
    gone = old[: max(0, len(old) - keep)]
    for folder in gone:
        shutil.rmtree(folder, ignore_errors=True)
        parsed_path(folder).unlink(missing_ok=True)
    return len(gone)
