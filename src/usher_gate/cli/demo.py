"""Shows usher-gate at work on a made-up organisation: writes Northmere Ferries into a new folder and checks it.

Writes FOLDER (default: northmere) with a snapshot, a baseline, exceptions, usher-gate.toml and a history
of twelve weeks."""

from __future__ import annotations

import argparse
import re
import shutil
from collections.abc import Callable
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.faults import Faults, quoted
from ..demo.weeks import baseline_of, names
from ..files.faults import UsherError
from ..files.written.workfolder import NAME, read_workfolder
from .common import add_output, say_notes, working
from .keeping import open_store, to_keep

if TYPE_CHECKING:
    from ..files.history.store import ToKeep

TAKES = "[FOLDER]"
EXAMPLES = """examples:
  usher-gate demo
  usher-gate demo elsewhere --no-colour"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "folder",
        metavar="FOLDER",
        nargs="?",
        type=Path,
        default=Path("northmere"),
        help="the folder to write (default: northmere)",
    )
    parser.add_argument("--fresh", action="store_true", help="replace a demo that is there already")
    add_output(parser, "check")


def run(arguments: argparse.Namespace) -> int:
    """Writes the demo, checks it, and says what to try next; the findings it shows are no failure of the demo;
    raises UsherError for a folder that is in the way."""
    from ..demo.write import write_files
    from ..files.write import whole_folder
    from ..outputs.safe import for_terminal

    folder: Path = arguments.folder
    in_the_way = folder.exists() and (not folder.is_dir() or any(folder.iterdir()))
    if in_the_way and not (arguments.fresh and _is_demo(folder)):
        or_fresh = ", or write --fresh" if _is_demo(folder) else ""
        raise UsherError(f"{quoted(str(folder))} is there already; name a new folder{or_fresh}")
    with whole_folder(folder, private=False, replace=arguments.fresh) as inside:
        write_files(inside)
        unkept = keep_weeks(inside)
    _check(folder, arguments)
    shown, here = for_terminal(str(folder)), folder.resolve() == Path.cwd()
    where, there = ("in this folder", "") if here else (f"in the new folder {shown}", f"cd {shown} && ")
    print(
        f"\nThis was 'usher-gate check' {where}. Try next: {there}usher-gate why asta.brandt@northmere.example "
        "door.waiting-room"
    )
    if unkept:
        say_notes((unkept,))
    return 0


def _is_demo(folder: Path) -> bool:
    from ..demo.state import TOML

    toml = folder / NAME
    return (
        toml.is_file() and toml.read_text("utf-8", "replace") == TOML and (folder / "snapshot" / "people.csv").is_file()
    )


def keep_weeks(folder: Path) -> str:
    """Keeps a check of each of the twelve weeks before, as the demo's files of changes lead back to them.

    Why not, where it cannot.
    """
    try:
        store = open_store(folder)
    except UsherError as lacking:
        return f"without the twelve weeks before: {lacking}"
    from ..engine.processes import Processes, cores
    from ..files.write import scratch_folder

    weeks, workers = list(names()), cores()
    with (
        scratch_folder() as scratch,
        working("checking twelve weeks") as progress,
        Processes((folder, scratch), workers) as executor,
    ):
        made = executor.run(
            _checked_weeks,
            [weeks[number::workers] for number in range(workers)],
            lambda done: progress(done, len(weeks)) if progress is not None else None,
        )
    for check in sorted((check for some in made for check in some), key=lambda check: check.taken_at):
        store.keep(check)
    return ""


def _checked_weeks(
    shared: tuple[Path, Path], weeks: list[tuple[date, str]], on_progress: Callable[[int], None]
) -> list[ToKeep]:
    """Return the checks of some weeks."""
    folder, scratch = shared
    made = []
    for day, name in weeks:
        made.append(_checked_week(folder, folder / name, day, scratch / day.isoformat()))
        on_progress(len(made))
    return made


def _checked_week(folder: Path, changes: Path, day: date, scratch: Path) -> ToKeep:
    """Return the check of one week.

    The snapshot as the changes leave it, at that week's time, against the baseline of that day.
    """
    from ..core.changes.apply import apply_changes
    from ..core.verdicts.check import check
    from ..core.verdicts.run import Narrowing
    from ..files.faults import stop_if_any
    from ..files.snapshot.folder import read_snapshot
    from ..files.written.baseline import read_baseline
    from ..files.written.changes import read_changes
    from ..files.written.exceptions import read_exceptions
    from ..files.written.snapshot_out import write_snapshot

    then, after, baseline = scratch / "then", scratch / "after", scratch / "baseline.yaml"
    shutil.copytree(folder / "snapshot", then)
    head = then / "organisation.yaml"
    head.write_text(re.sub(r"(?m)^taken_at: .*$", f"taken_at: {day}T06:00:00Z", head.read_text("utf-8")), "utf-8")
    baseline.write_text(baseline_of(day, (folder / "baseline.yaml").read_text("utf-8")), "utf-8")
    read, faults = read_snapshot(then, keep_tables=True), Faults()
    applied = apply_changes(
        read.snapshot, read.tables, read_changes(changes, read.snapshot, read.tables, faults), str(changes), faults
    )
    stop_if_any(faults)
    assert applied is not None
    write_snapshot(then, after, read.snapshot, applied.snapshot, read.tables, applied.tables)
    snapshot = read_snapshot(after).snapshot
    rules, _ = read_baseline(baseline, snapshot.catalogue, snapshot)
    exceptions, _ = read_exceptions(folder / "exceptions.yaml", rules, snapshot)
    result = check(snapshot, rules, exceptions, Narrowing())
    return to_keep(result, after, baseline, folder / "exceptions.yaml", kept_at=f"{day}T06:05:00Z")


def _check(folder: Path, arguments: argparse.Namespace) -> None:
    from . import check
    from .parser import Parser

    parser = Parser("check", check.__doc__, check.EXAMPLES)
    check.add_arguments(parser)
    where = read_workfolder(folder)
    options = [f"--{name}={getattr(where, name)}" for name in ("snapshot", "baseline", "exceptions")]
    options += ["--format", arguments.format] + (["--no-colour"] if arguments.no_colour else [])
    options += ["--out", str(arguments.out)] if arguments.out else []
    check.run(parser.parse_args(options))
