"""What several verbs share: where the files lie, narrowing, output and notes."""

from __future__ import annotations

import argparse
import io
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from ..core.words.faults import nearest, quoted
from ..core.words.vocabulary import SEVERITIES
from ..files.faults import UsherError
from ..files.written.workfolder import NAME, WorkFolder, read_workfolder
from ..outputs.forms import forms_of

if TYPE_CHECKING:
    from ..core.organisation.columns import Bools
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.rules import AgreedException, Baseline
    from ..core.verdicts.run import Narrowing
    from ..files.snapshot.folder import Read
    from ..outputs.look import Look

_NOTES_SHOWN = 12


@dataclass(frozen=True)
class Inputs:
    """What a check needs, read and checked."""

    read: Read
    baseline: Baseline
    exceptions: tuple[AgreedException, ...]
    notes: tuple[str, ...]

    @property
    def snapshot(self) -> Snapshot:
        """The snapshot."""
        return self.read.snapshot


def add_places(parser: argparse.ArgumentParser, baseline: bool = True) -> None:
    """Options for where the files lie."""
    group = parser.add_argument_group("files", f"{NAME} in the working folder says where they lie; these override it")
    group.add_argument("--snapshot", type=Path, metavar="DIR", help="the snapshot folder")
    if baseline:
        group.add_argument("--baseline", type=Path, metavar="FILE", help="the baseline")
        group.add_argument("--exceptions", type=Path, metavar="FILE", help="the agreed exceptions")


def add_output(parser: argparse.ArgumentParser, result: str) -> None:
    """Options for what comes out: the forms of a result."""
    formats = forms_of(result)
    group = parser.add_argument_group("output")
    group.add_argument(
        "--format", choices=formats, default="table", metavar="FORM", help=f"{', '.join(formats)} (default: table)"
    )
    group.add_argument("--out", type=Path, metavar="FILE", help="write to a file, whole or not at all")
    group.add_argument("--no-colour", action="store_true", help="no colour, also on a terminal (as NO_COLOR does)")


def add_narrowing(parser: argparse.ArgumentParser) -> None:
    """Options that narrow what is reported; each may be repeated."""
    group = parser.add_argument_group(
        "narrowing (repeatable; the same option twice means either, different ones mean both)"
    )
    for name, metavar, wanted in (
        ("rule", "ID", "only these rules"),
        ("service", "ID", "only these services"),
        ("person", "WHO", "only these people (login or id)"),
        ("group", "ID", "only people in these groups"),
        ("unit", "PATH", "only people in these units and below"),
    ):
        group.add_argument(f"--{name}", action="append", metavar=metavar, help=wanted)
    group.add_argument(
        "--severity",
        action="append",
        choices=SEVERITIES,
        metavar="WORD",
        help=f"only rules that are {', '.join(SEVERITIES)}",
    )
    group.add_argument("--verdict", action="append", metavar="WORD", help="list only findings with these verdicts")


def places(arguments: argparse.Namespace) -> WorkFolder:
    """Where the files lie: as the call says, else as the working folder does."""
    folder = read_workfolder(Path())
    return WorkFolder(
        *(getattr(arguments, key, None) or getattr(folder, key) for key in ("snapshot", "baseline", "exceptions"))
    )


def need(path: Path | None, what: str) -> Path:
    """A path that a verb cannot do without."""
    if path is None:
        raise UsherError(f'no {what} is named; write --{what} PATH, or {what} = "PATH" in {NAME}')
    return path


def read_inputs(arguments: argparse.Namespace, exceptions_too: bool = True) -> Inputs:
    """Reads snapshot, baseline and exceptions."""
    from ..files.snapshot.folder import read_snapshot
    from ..files.written.baseline import read_baseline
    from ..files.written.exceptions import read_exceptions

    where = places(arguments)
    snapshot, baseline = need(where.snapshot, "snapshot"), need(where.baseline, "baseline")
    with working("reading"):
        read = read_snapshot(snapshot)
        rules, notes = read_baseline(baseline, read.snapshot.catalogue, read.snapshot)
        exceptions, more = (
            read_exceptions(where.exceptions, rules, read.snapshot) if where.exceptions and exceptions_too else ((), ())
        )
    return Inputs(read, rules, exceptions, (*notes, *more))


def narrowing(arguments: argparse.Namespace, snapshot: Snapshot, baseline: Baseline) -> Narrowing:
    """What the report is to speak of; raises UsherError for a name that nothing has."""
    from ..core.verdicts.codes import VERDICTS
    from ..core.verdicts.run import Narrowing

    _known(arguments.rule, [rule.id for rule in baseline.rules], "rule")
    _known(arguments.service, [service.id for service in snapshot.services or ()], "service")
    _known(arguments.verdict, VERDICTS, "verdict")
    return Narrowing(
        _set(arguments.rule),
        _set(arguments.service),
        _set(arguments.severity),
        _set(arguments.verdict),
        _people(arguments, snapshot),
    )


def _set(values: list[str] | None) -> frozenset[str] | None:
    return None if values is None else frozenset(values)


def _known(values: list[str] | None, known: list[str] | tuple[str, ...], what: str) -> None:
    for value in values or ():
        if value not in known:
            raise UsherError(f"there is no {what} {quoted(value)}; {nearest(value, known)}")


def _people(arguments: argparse.Namespace, snapshot: Snapshot) -> Bools | None:
    import numpy as np

    from ..core.organisation.select import Unanswerable, find_group, select
    from ..core.organisation.selector import Selector

    mask = None
    if arguments.person:
        mask = np.zeros(len(snapshot.people), bool)
        mask[[find_person(who, snapshot) for who in arguments.person]] = True
    for key in ("group", "unit"):
        values = getattr(arguments, key)
        if not values:
            continue
        for value in values:
            try:
                if key == "group":
                    find_group(value, snapshot)
                elif snapshot.units is not None and value not in snapshot.unit_paths:
                    raise KeyError(value)
            except KeyError:
                known = snapshot.group_index if key == "group" else snapshot.unit_paths
                raise UsherError(f"there is no {key} {quoted(value)}; {nearest(value, known)}") from None
        try:
            found = select(Selector(key, tuple(values)), snapshot)
        except Unanswerable as gap:
            raise UsherError(f"--{key} asks for {gap}, which the snapshot does not have") from None
        mask = found if mask is None else mask & found
    return mask


def find_person(who: str, snapshot: Snapshot) -> int:
    """The number of an active person by id or login; raises UsherError."""
    found = snapshot.people.ids.find(who) or snapshot.people.logins.find(who)
    if len(found) == 1:
        return found[0]
    import numpy as np

    if found:
        ids = ", ".join(snapshot.people.ids.take(np.array(found)))
        raise UsherError(f"{len(found)} people have the login {quoted(who)}; name one by id: {ids}")
    if snapshot.inactive.ids.find(who):
        raise UsherError(f"{quoted(who)} is not active, so nothing is judged")
    every = np.arange(min(len(snapshot.people), 20_000))
    raise UsherError(
        f"there is no person {quoted(who)}; {nearest(who, [*snapshot.people.logins.take(every), *snapshot.people.ids.take(every)])}"
    )


def look(arguments: argparse.Namespace, rows: int | None = None) -> Look:
    """How a result for people is to look on this terminal (or off it)."""
    import shutil

    from ..outputs.look import Look

    terminal = arguments.out is None and sys.stdout.isatty()
    width, height = shutil.get_terminal_size((100, 40))
    if rows is None:
        rows = min(max((height - 16) // 7, 3), 10) if terminal else 10
    return Look(max(width, 40), terminal and not arguments.no_colour and not os.environ.get("NO_COLOR"), max(rows, 0))


@contextmanager
def _as_long_as_read(stream: TextIO) -> Iterator[TextIO]:
    """Whoever reads a pipe may have had enough: what was found stays what it is, and so does the exit status."""
    try:
        yield stream
        stream.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


@contextmanager
def output(arguments: argparse.Namespace) -> Iterator[TextIO]:
    """Where the result goes: standard output, or a file that takes its place only when it is whole."""
    if arguments.out is None:
        if isinstance(sys.stdout, io.TextIOWrapper):
            sys.stdout.reconfigure(encoding="utf-8", errors="backslashreplace")
        with _as_long_as_read(sys.stdout) as stream:
            yield stream
        return
    from ..files.write import whole_file

    with whole_file(arguments.out) as stream:
        yield stream


def write(arguments: argparse.Namespace, result: str, answer: object, rows: int | None = None) -> None:
    """Writes a result in the form that is asked for."""
    from ..outputs.forms import writer

    with output(arguments) as stream:
        writer(result, arguments.format)(answer, stream, look(arguments, rows))


def say_notes(notes: tuple[str, ...]) -> None:
    """Notes go to standard error, the first few of them; what is no surprise is only counted."""
    from ..core.verdicts.scope import NOT_PAIRED
    from ..outputs.safe import for_terminal

    telling = [note for note in notes if not note.endswith(NOT_PAIRED)]
    with _as_long_as_read(sys.stderr) as stream:
        for note in telling[:_NOTES_SHOWN]:
            print(f"usher-gate: note: {for_terminal(note)}", file=stream)
        if len(telling) > _NOTES_SHOWN:
            print(
                f"usher-gate: note: and {len(telling) - _NOTES_SHOWN} more; --format json lists them all", file=stream
            )
        if len(notes) > len(telling):
            print(
                f"usher-gate: note: {len(notes) - len(telling)} times a rule does not apply to a service, "
                "which supports none of its controls; "
                "--format json lists them",
                file=stream,
            )


@contextmanager
def working(what: str, counted: str = "") -> Iterator[Callable[[int, int], None] | None]:
    """A progress bar on standard error while something long is done, if that is a terminal.

    It is told how much of how much is done; where the whole is not known (0), how many `counted` are.
    """
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    with Progress(
        TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn(), console=Console(stderr=True), transient=True
    ) as bar:
        task = bar.add_task(what, total=None)

        def update(done: int, total: int) -> None:
            said = f"{what} {done:,} {counted}" if counted else what
            bar.update(task, completed=done, total=total or None, description=said)

        yield update
