"""Gathering: every source in its order, then one snapshot, whole or not at all."""

from __future__ import annotations

import csv
import io
import os
import shutil
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from ..core.organisation.build.settings import SETTINGS
from ..core.words.faults import Fault, Faults, nearest, quoted
from ..files.faults import BadInput, CannotWrite, UsherError, stop_if_any
from ..files.snapshot.last_gather import LastGather, write_last
from ..files.snapshot.manifest import Missing
from ..files.snapshot.services import ids_of
from ..files.write import draft_folder
from .columns import column_cells, column_names
from .groups import join_groups, shared_group_names
from .interface import FAILED, Context, Gathered, MappedColumn, NamedSource, Progress, Row, SourceFailed, open_source
from .join import JOINABLE, Joined, join
from .place import alone, build, key_at, prune, put_in_place
from .secrets import Secrets
from .settings import GatherSettings
from .trust import check_age, check_content, filled_counts, line_counts, shrunk_sources


class Incomplete(UsherError):
    """Some sources could not be read, and nothing was replaced."""

    status = FAILED


@dataclass(frozen=True)
class Report:
    """Describes how one source went."""

    name: str
    kind: str
    seconds: float
    counts: dict[str, int]
    failed: str = ""
    mapped: tuple[MappedColumn, ...] = ()


@dataclass(frozen=True)
class GatherDone:
    """A snapshot that is in place."""

    folder: Path
    reports: tuple[Report, ...]
    notes: tuple[str, ...]
    missing: tuple[Missing, ...]
    pruned: int
    people_by_givers: Mapping[tuple[str, ...], Sequence[str]]  # if several sources give people


Say = Callable[[Report], None]


def _ask(named: NamedSource, context: Context) -> tuple[Gathered | None, Report]:
    """Ask one source, and return what it gave and how it went; no text that comes back holds a secret."""
    start = time.monotonic()
    try:
        check_age(named, context)
        progress = _with_time_limit(named, context.progress)
        found = named.source.gather(replace(context, progress=progress, most_people=named.most_people))
        check_content(named, found)
    except UsherError as error:
        why = context.secrets.hide(str(error).splitlines()[0])
        return None, Report(name=named.name, kind=named.kind, seconds=time.monotonic() - start, counts={}, failed=why)
    found.notes = [context.secrets.hide(note) for note in found.notes]
    counts = found.counts | dict.fromkeys(sorted(found.files), 1)
    return found, Report(named.name, named.kind, time.monotonic() - start, counts, mapped=tuple(found.mapped))


def _with_time_limit(named: NamedSource, progress: Progress) -> Progress:
    """Return a progress callback that raises SourceFailed once a source takes longer than `longest_minutes`."""
    until = time.monotonic() + named.longest_minutes * 60

    def on_progress(what: str, done: int, total: int) -> None:
        if time.monotonic() > until:
            raise SourceFailed(f"takes longer than longest_minutes = {named.longest_minutes:g}, after {done:,} {what}")
        progress(what, done, total)

    return on_progress


def gather(
    settings: GatherSettings,
    folder: Path,
    link: Path,
    partial: bool,
    say: Say,
    progress: Callable[[str], Progress],
    accepted: Collection[str] = (),
) -> GatherDone:
    """Gathers into `snapshots/` beside the link; raises Incomplete, BadInput (what came is no snapshot) or Busy.

    `accepted` are sources (by name) that may give much less than last time.
    """
    snapshots, secrets = link.parent / "snapshots", Secrets(folder)
    with alone(snapshots), _recorded(snapshots) as failed:
        taken_at = datetime.now(UTC).replace(microsecond=0)
        reports: list[Report] = []
        found, lost = _ask_all(settings, folder, secrets, reports, say, progress)
        failed += [source.source for source in lost]
        if lost:
            _refuse(lost, any(_gives_people(gathered) for _, gathered in found), partial)
        for source, gathered in found:
            _refuse_secrets(source, gathered, secrets)
        details = {
            name: {"lines": line_counts(gathered), "filled": filled_counts(gathered)} for name, gathered in found
        }
        current = {name: {"rows": gathered.counts} | details[name] for name, gathered in found}
        shrunk = shrunk_sources(settings.sources, current, link, snapshots)
        refused = [(name, loss) for name, loss in shrunk if name not in accepted]
        if refused:
            failed += dict.fromkeys(name for name, _ in refused)
            raise Incomplete(_shrunk_text(refused))
        _files_as_rows(found, settings.join_groups)
        group_notes = join_groups(found) if settings.join_groups else shared_group_names(found)
        joined = join(found)
        missing = [_leave_out(source, joined, [gathered for _, gathered in found]) for source in lost]
        covered = _covered(settings.sources, reports, joined, found)
        missing += _uncovered(settings.sources, covered, joined, found, missing, partial)
        taken_at = min([taken_at, *(_moment(one.taken_at) for _, one in found if one.taken_at is not None)])
        notes = [f"{name}: {note}" for name, gathered in found for note in gathered.notes] + joined.notes()
        notes += [f"{name}: accepted: gave {loss}" for name, loss in shrunk]
        notes += group_notes
        describe = [
            _described(named, report) | details.get(named.name, {}) | {"state": "missing" if report.failed else "whole"}
            for named, report in zip(settings.sources, reports, strict=True)
        ]
        finished = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        with _draft(snapshots, link) as draft:
            build(draft, joined, found, taken_at, describe, missing, finished, sorted(covered))
            _validate(draft, found)
            final = put_in_place(draft, snapshots, link, taken_at.strftime("%Y-%m-%dT%H-%M-%SZ"))
        pruned = prune(snapshots, final, settings.keep)
    return GatherDone(
        folder=final,
        reports=tuple(reports),
        notes=tuple(notes),
        missing=tuple(missing),
        pruned=pruned,
        people_by_givers=joined.people_by_givers(),
    )


def _ask_all(
    settings: GatherSettings,
    folder: Path,
    secrets: Secrets,
    reports: list[Report],
    say: Say,
    progress: Callable[[str], Progress],
) -> tuple[list[tuple[str, Gathered]], list[Missing]]:
    """Ask every source in turn; return what each gave by name, and the sources that gave nothing."""
    found: list[tuple[str, Gathered]] = []
    lost: list[Missing] = []
    for named in settings.sources:
        context = Context(folder, secrets, progress(named.name), time_zone=settings.time_zone)
        gathered, report = _ask(named, context)
        reports.append(report)
        say(report)
        if gathered is not None:
            found.append((named.name, gathered))
        else:
            tables = tuple(sorted(named.source.gives.tables))
            lost.append(Missing(named.name, report.failed, tables, named.source.gives.services or ()))
    return found, lost


def _described(named: NamedSource, report: Report) -> dict[str, Any]:
    """Return how a source went, for the manifest."""
    return {
        "name": named.name,
        "kind": named.kind,
        "from": named.place,
        "seconds": round(report.seconds, 1),
        "rows": report.counts,
    }


def _shrunk_text(losses: Sequence[tuple[str, str]]) -> str:
    """Return the error about sources that gave much less than last time."""
    sources = dict.fromkeys(name for name, _ in losses)
    by_source = (f"{source} gave {', '.join(loss for name, loss in losses if name == source)}" for source in sources)
    accept = " ".join(f"--accept {source}" for source in sources)
    return f"nothing was replaced: {'; '.join(by_source)}. If that is right, say so once: usher-gate gather {accept}"


def _refuse_secrets(source: str, gathered: Gathered, secrets: Secrets) -> None:
    """Raises SourceFailed for a source that gives back a secret of this call: it would be written into the snapshot."""
    for table, rows in sorted(gathered.tables.items()):
        for column in sorted(column_names(rows)):
            cells = column_cells(rows, column)
            number = secrets.found_in(cells)
            if number is not None:
                key = next(
                    (rows[number][name] for name in ("id", "login", "person", "group") if rows[number].get(name)), ""
                )
                raise SourceFailed(
                    f"nothing was replaced: {source} gives a secret of this call as {table}.{column}"
                    + (f" of {quoted(key)}" if key and secrets.found_in([key]) is None else "")
                    + "; a server that repeats secrets must be mended, and the secret changed"
                )


@contextmanager
def _draft(snapshots: Path, link: Path) -> Iterator[Path]:
    """A folder to build a snapshot in, which is gone afterwards unless it was renamed; errors name the snapshot that
    it was to be."""
    draft, lock = draft_folder(snapshots, snapshots, "snapshot")
    try:
        yield draft
    except CannotWrite as error:
        raise error.moved(draft, link) from None
    finally:
        shutil.rmtree(draft, ignore_errors=True)
        os.close(lock)


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@contextmanager
def _recorded(snapshots: Path) -> Iterator[list[str]]:
    """Records when a gather begins and how it ends beside the snapshots, so that every verb can say that it reads an
    older state; the list takes the names of the sources that fail.
    """
    began, failed = _now(), list[str]()
    write_last(snapshots, LastGather(began=began))
    try:
        yield failed
    except BaseException as error:
        why = str(error).splitlines()[0] if isinstance(error, UsherError) else type(error).__name__
        status = error.status if isinstance(error, UsherError) else None
        last = LastGather(began=began, ended=_now(), status=status, failed=tuple(failed), why=why)
        with suppress(UsherError):  # on a full disk the first error is what counts
            write_last(snapshots, last)
        raise
    status = FAILED if failed else 0
    write_last(snapshots, LastGather(began=began, ended=_now(), status=status, failed=tuple(failed), replaced=True))


def _moment(micros: int) -> datetime:
    return datetime.fromtimestamp(micros // 1_000_000, UTC)


def _settings_services(found: Sequence[tuple[str, Gathered]], joined: Joined) -> set[str]:
    """Return the services that have settings in what was gathered, copied tables included."""
    services = {
        row["service"] for row in joined.tables.get("settings", ()) if not row.get("scope", "").startswith("meeting:")
    }
    for _, gathered in found:
        for name, path in gathered.files.items():
            if Path(name).stem == SETTINGS.name:
                services |= _column_of(path, "service")
    return services


def _column_of(path: Path, column: str) -> set[str]:
    from ..files.tables import read_table

    faults = Faults()
    table = read_table(path.parent, SETTINGS, faults)
    stop_if_any(faults)
    return set() if table is None or column not in table.columns else set(table.columns[column].coded().words)


def _covered(
    sources: Sequence[NamedSource], reports: Sequence[Report], joined: Joined, found: Sequence[tuple[str, Gathered]]
) -> set[str]:
    """Return the services that some source gave settings for, or was asked for and had none."""
    asked = {
        service
        for named, report in zip(sources, reports, strict=True)
        if not report.failed and named.source.gives.whole and "settings" in named.source.gives.tables
        for service in named.source.gives.services or ()
    }
    return asked | _settings_services(found, joined)


def _uncovered(
    sources: Sequence[NamedSource],
    covered: set[str],
    joined: Joined,
    found: Sequence[tuple[str, Gathered]],
    missing: Sequence[Missing],
    partial: bool,
) -> list[Missing]:
    """Return services that no source covers, and those of a source that services.yaml lacks.

    Raises Incomplete, unless in part.
    """
    path = next(
        (file for _, gathered in found for name, file in gathered.files.items() if name == "services.yaml"), None
    )
    if path is None:
        return []
    known = ids_of(path)
    failed = {service for source in missing for service in source.settings_of}
    lacking = sorted(known - covered - failed)
    foreign = sorted(covered - known)
    faults = [
        f"{named.name} names the service {quoted(service)}, which {path.name} does not; {nearest(service, known)}"
        for service in foreign
        for named in [next((one for one in sources if service in (one.source.gives.services or ())), sources[0])]
    ]
    faults += [
        f"no source covers the service {quoted(service)} of {path.name}; name it in a source" for service in lacking
    ]
    if faults and not partial:
        raise Incomplete(f"nothing was replaced: {'; '.join(faults)} (--partial keeps the rest)")
    rows = joined.tables.get("settings")
    if rows is not None and foreign:
        joined.tables["settings"] = [row for row in rows if row["service"] not in foreign]
    covered.difference_update(foreign)
    return [Missing(path.name, fault, (), ()) for fault in faults[: len(foreign)]] + [
        Missing(path.name, f"no source covers the service {service}", (), (service,)) for service in lacking
    ]


def _gives_people(gathered: Gathered) -> bool:
    return bool(gathered.tables.get("people")) or any(name.startswith("people.") for name in gathered.files)


def _files_as_rows(found: Sequence[tuple[str, Gathered]], always: bool) -> None:
    """Read a table that one source gives as a CSV file and another as rows (a calendar's settings of meetings).

    With `always` every CSV file that can be joined is read: groups that are joined have another id in it.
    Spec: gathering 2 and 6.
    """
    for source, gathered in found:
        others = {table for name, other in found if name != source for table in other.tables}
        for name, path in [*gathered.files.items()]:
            table = Path(name).stem
            if (always or table in others) and table in JOINABLE and path.suffix.lower() == ".csv":
                del gathered.files[name]
                gathered.tables[table] = _rows_of(path)


def _rows_of(path: Path) -> list[Row]:
    """Return the rows of a CSV file, without empty cells; raises SourceFailed for one that is no table."""
    with open_source(path) as raw:
        data = raw.read()
    try:
        reader = csv.reader(io.StringIO(data.decode("utf-8-sig"), newline=""), strict=True)
        header = next(reader, [])
        if len(set(header)) < len(header):
            raise SourceFailed(f"{path}:1: has a column twice")
        rows = []
        for cells in reader:
            if cells and len(cells) != len(header):
                raise SourceFailed(f"{path}:{reader.line_num}: has {len(cells)} cells, and the header {len(header)}")
            rows.append({column: cell for column, cell in zip(header, cells, strict=False) if cell})
    except (UnicodeDecodeError, csv.Error) as error:
        raise SourceFailed(f"{path}: is no CSV file in UTF-8 ({error.__class__.__name__})") from None
    return [row for row in rows if row]


def _refuse(lost: Sequence[Missing], people: bool, partial: bool) -> None:
    names = ", ".join(source.source for source in lost)
    if not partial:
        raise Incomplete(f"nothing was replaced: {names} could not be read (--partial keeps the rest)")
    needed = [
        source.source
        for source in lost
        if "organisation" in source.tables or ("people" in source.tables and not people)
    ]
    if needed:
        raise Incomplete(f"nothing was replaced: without {', '.join(needed)} no one knows who there is")


def _leave_out(lost: Missing, joined: Joined, found: Sequence[Gathered]) -> Missing:
    """Takes out what cannot be believed for want of a source; returns what is not known then.

    People that other sources gave stay; how many there are is not known.
    """
    tables = set(lost.tables) - {"settings"}
    for gathered in found:  # a file holds what it holds: a table of which a part is missing goes as a whole
        copied = {Path(name).stem for name in gathered.files}
        tables |= copied & {"settings"} & set(lost.tables)
        gathered.files = {
            name: path for name, path in gathered.files.items() if Path(name).stem not in set(lost.tables) - {"people"}
        }
    for table in tables - {"people"}:
        joined.tables.pop(table, None)
    if "settings" in lost.tables:
        rows = joined.tables.get("settings")
        if rows is not None and lost.settings_of:
            joined.tables["settings"] = [row for row in rows if row["service"] not in lost.settings_of]
        elif not lost.settings_of:
            joined.tables.pop("settings", None)
            tables.add("settings")
    return Missing(lost.source, lost.why, tuple(sorted(tables)), lost.settings_of)


def _validate(building: Path, found: Sequence[tuple[str, Gathered]]) -> None:
    """Reads what was built as check will; raises BadInput, which names the sources of each table, if it is no
    snapshot."""
    from ..files.snapshot.folder import read_snapshot

    try:
        read_snapshot(building)
    except BadInput as error:
        alike: dict[tuple[str, str], list[tuple[int, str]]] = {}
        for fault in error.faults:
            named, entry = _named_entry(fault, building, found)
            alike.setdefault((named.file, named.message), []).append((named.line, entry))
        raise BadInput(
            Fault(file, line, f"{entry}{message}" + (f" (and {len(more)} more lines)" if more else ""))
            for (file, message), [(line, entry), *more] in alike.items()
        ) from None


def _named_entry(fault: Fault, building: Path, found: Sequence[tuple[str, Gathered]]) -> tuple[Fault, str]:
    """Return a fault in what was built with the sources that gave it and the attribute, and the entry that has it.

    The entry of a table that is built from rows takes the place of the line, which no one can look up.
    """
    name = fault.file.removeprefix(f"{building}/")
    if name == fault.file:
        return fault, ""
    path = building / name
    table = name.partition("/")[0].partition(".")[0]
    is_copied = any(name in gathered.files for _, gathered in found)
    key = () if is_copied or path.suffix != ".csv" else key_at(path, fault.line)
    givers = [
        (source, gathered)
        for source, gathered in found
        if gathered.tables.get(table) or any(Path(copied).stem == table for copied in gathered.files)
    ]
    if table == "people" and key:  # of several sources, those that gave this person
        givers = [each for each in givers if key[0] in column_cells(each[1].tables.get(table, ()), "id")] or givers
    column, colon, rest = fault.message.partition(": ")
    mapped = (
        each for _, gathered in givers for each in gathered.mapped if (each.table, each.column) == (table, column)
    )
    attribute = next((each.attribute for each in mapped if each.attribute != column), "")
    message = f"{column} (from {attribute}){colon}{rest}" if attribute else fault.message
    file = f"what {' and '.join(source for source, _ in givers) or 'the sources'} gave: {name}"
    return Fault(file, 0 if key else fault.line, message), f"{' '.join(map(quoted, key))}: " if key else ""
