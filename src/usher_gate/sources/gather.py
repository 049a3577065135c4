"""Gathering: every source in its order, then one snapshot, whole or not at all."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from ..core.words.faults import Fault
from ..files.faults import BadInput, UsherError
from ..files.snapshot.manifest import Missing
from .interface import FAILED, Context, Gathered, Progress
from .join import Joined, join
from .place import alone, build, prune, put_in_place
from .secrets import Secrets
from .settings import GatherSettings, Named


class Incomplete(UsherError):
    """Some sources could not be read, and nothing was replaced."""

    status = FAILED


@dataclass(frozen=True)
class Report:
    """How one source went."""

    name: str
    kind: str
    seconds: float
    counts: dict[str, int]
    failed: str = ""


@dataclass(frozen=True)
class Done:
    """A snapshot that is in place."""

    folder: Path
    reports: tuple[Report, ...]
    notes: tuple[str, ...]
    missing: tuple[Missing, ...]
    pruned: int


Say = Callable[[Report], None]


def _ask(named: Named, context: Context) -> tuple[Gathered | None, Report]:
    """One source, and how it went; no text that comes back holds a secret."""
    start = time.monotonic()
    try:
        found = named.source.gather(context)
    except UsherError as error:
        why = context.secrets.hide(str(error).splitlines()[0])
        return None, Report(named.name, named.kind, time.monotonic() - start, {}, why)
    found.notes = [context.secrets.hide(note) for note in found.notes]
    counts = found.counts | dict.fromkeys(sorted(found.files), 1)
    return found, Report(named.name, named.kind, time.monotonic() - start, counts)


def gather(
    settings: GatherSettings, folder: Path, link: Path, partial: bool, say: Say, progress: Callable[[str], Progress]
) -> Done:
    """Gathers into `snapshots/` beside the link; raises Incomplete, BadInput (what came is no snapshot) or Busy."""
    snapshots, secrets = link.parent / "snapshots", Secrets(folder)
    with alone(snapshots):
        taken_at = datetime.now(UTC).replace(microsecond=0)
        found: list[tuple[str, Gathered]] = []
        reports: list[Report] = []
        lost: list[Missing] = []
        for named in settings.sources:
            gathered, report = _ask(named, Context(folder, secrets, progress(named.name)))
            reports.append(report)
            say(report)
            if gathered is not None:
                found.append((named.name, gathered))
            else:
                tables = tuple(sorted(named.source.gives.tables))
                lost.append(Missing(named.name, report.failed, tables, named.source.gives.services or ()))
        if lost:
            _refuse(lost, any(_gives_people(gathered) for _, gathered in found), partial)
        joined = join(found)
        missing = [_leave_out(source, joined, [gathered for _, gathered in found]) for source in lost]
        notes = [f"{name}: {note}" for name, gathered in found for note in gathered.notes] + joined.notes()
        describe = [
            {
                "name": named.name,
                "kind": named.kind,
                "from": named.place,
                "seconds": round(report.seconds, 1),
                "rows": report.counts,
            }
            | {"state": "missing" if report.failed else "whole"}
            for named, report in zip(settings.sources, reports, strict=True)
        ]
        finished = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        building = build(snapshots, joined, found, taken_at, describe, missing, finished)
        _validate(building)
        final = put_in_place(building, snapshots, link, taken_at.strftime("%Y-%m-%dT%H-%M-%SZ"))
        pruned = prune(snapshots, final, settings.keep)
    return Done(final, tuple(reports), tuple(notes), tuple(missing), pruned)


def _gives_people(gathered: Gathered) -> bool:
    return bool(gathered.tables.get("people")) or any(name.startswith("people.") for name in gathered.files)


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
        raise Incomplete(f"nothing was replaced: without {', '.join(needed)} nobody knows who there is")


def _leave_out(lost: Missing, joined: Joined, found: Sequence[Gathered]) -> Missing:
    """Takes out what cannot be believed for want of a source; returns what is not known then.

    People whom other sources gave stay; how many there are is not known.
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


def _validate(building: Path) -> None:
    """Reads what was built as check will; raises BadInput, and takes it away, if it is no snapshot."""
    import shutil

    from ..files.snapshot.folder import read_snapshot

    try:
        read_snapshot(building)
    except BadInput as error:
        shutil.rmtree(building, ignore_errors=True)
        alike: dict[tuple[str, str], list[Fault]] = {}
        for fault in error.faults:
            alike.setdefault((fault.file.replace(f"{building}/", "what was gathered: "), fault.message), []).append(
                fault
            )
        raise BadInput(
            Fault(file, every[0].line, message + (f" (and {len(every) - 1} more lines)" if len(every) > 1 else ""))
            for (file, message), every in alike.items()
        ) from None
