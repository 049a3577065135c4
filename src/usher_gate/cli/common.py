"""What several verbs share: where the files lie, narrowing, output and notes."""

from __future__ import annotations

import argparse
import os
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from ..core.words.faults import nearest, quoted
from ..core.words.vocabulary import SEVERITIES
from ..files.faults import UsherError
from ..files.place import Place, place
from ..files.written.workfolder import MAX_AGE, NAME, WorkFolder, read_workfolder
from ..outputs.forms import forms_of
from ..outputs.show_words import ALL, SHOWN
from .parser import positive_number

if TYPE_CHECKING:
    from ..core.door.agenda import Agenda, PlannedOn
    from ..core.organisation.columns import Bools
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.result import CheckResult
    from ..core.verdicts.rules import AgreedException, Baseline
    from ..core.verdicts.run import Narrowing
    from ..core.words.catalogue import Catalogue
    from ..engine.checking import ToCheck
    from ..engine.interface import Executor
    from ..engine.job import Job
    from ..engine.settings import ClusterSettings
    from ..files.snapshot.folder import ReadSnapshot
    from ..outputs.render_options import RenderOptions

_NOTES_SHOWN = 12
_ROWS = 10  # of each table, where no number is asked for
_WITH_HEADLINE = ("check",)  # results whose first lines say what is doubtful


@dataclass(frozen=True)
class Inputs:
    """Describes what a check needs, read and checked."""

    read: ReadSnapshot
    baseline: Baseline
    exceptions: tuple[AgreedException, ...]
    notes: tuple[str, ...]

    @property
    def snapshot(self) -> Snapshot:
        """Return the organisation as the snapshot folder describes it."""
        return self.read.snapshot


def add_places(parser: argparse.ArgumentParser, baseline: bool = True, exceptions: bool = True) -> None:
    """Options for where the files lie."""
    group = parser.add_argument_group(f"files ({NAME} in the working folder says where they lie; these override it)")
    group.add_argument("--snapshot", type=place, metavar="DIR", help="the snapshot folder, or its URL")
    if baseline:
        group.add_argument("--baseline", type=Path, metavar="FILE", help="the baseline")
    if baseline and exceptions:
        group.add_argument("--exceptions", type=Path, metavar="FILE", help="the agreed exceptions")
    group.add_argument(
        "--max-age",
        type=positive_number,
        metavar="HOURS",
        help=f"older than that: status 3 ({MAX_AGE})",
    )


def add_output(parser: argparse.ArgumentParser, result: str) -> None:
    """Options for what comes out: the forms of a result."""
    formats = forms_of(result)
    group = parser.add_argument_group("output")
    group.add_argument(
        "--format",
        choices=formats,
        metavar="FORM",
        help=f"{', '.join(formats)} (default: by the ending of --out, else table)",
    )
    group.add_argument("--out", type=Path, metavar="FILE", help="write to a file, whole or not at all")
    if "table" in formats:
        group.add_argument("--ids", action="store_true", help="controls and values by id, not by title and meaning")
    group.add_argument("--no-colour", action="store_true", help="no colour, also on a terminal (as NO_COLOR does)")


def add_rows(parser: argparse.ArgumentParser, verb: str = "") -> None:
    """How many rows of each kind a table shows, and which tables of a verb (if it has several)."""
    from .parser import whole

    if verb:
        parser.add_argument(
            "--show",
            action="append",
            type=str.lower,
            choices=(*SHOWN[verb], ALL),
            metavar="WORD",
            help=f"these tables: {', '.join(SHOWN[verb])}, or {ALL}",
        )

    parser.add_argument(
        "--rows",
        type=whole(0),
        default=None,
        metavar="N",
        help="rows of each kind in a table; 0: all (up to 10)",
    )


def add_narrowing(parser: argparse.ArgumentParser, verdicts: bool = True, person: bool = True, of: str = "") -> None:
    """Options that narrow what is reported (`of` what, if not of all); each may be repeated.

    Without `verdicts` findings cannot be narrowed by what was found, without `person` not to single people.
    """
    group = parser.add_argument_group(
        f"narrowing{of} (repeatable; the same option twice means either, different ones mean both)"
    )
    for name, metavar, wanted in (
        ("rule", "ID", "only these rules"),
        ("service", "ID", "only these services"),
        ("person", "WHO", "only these people (login or id)"),
        ("group", "ID", "only people in these groups"),
        ("unit", "PATH", "only people in these units and below"),
    ):
        if person or name != "person":
            group.add_argument(f"--{name}", action="append", metavar=metavar, help=wanted)
    group.add_argument(
        "--severity",
        action="append",
        type=str.lower,
        choices=SEVERITIES,
        metavar="WORD",
        help=f"only rules that are {', '.join(SEVERITIES)}",
    )
    if verdicts:
        group.add_argument("--verdict", action="append", metavar="WORD", help="list only findings with these verdicts")
    else:
        parser.set_defaults(verdict=None)


def add_scheduler(parser: argparse.ArgumentParser) -> None:
    """Where large work is done."""
    from ..engine.settings import scheduler

    def address(text: str) -> str:
        try:
            return scheduler(text)
        except ValueError as error:
            raise argparse.ArgumentTypeError(str(error)) from None

    parser.add_argument(
        "--scheduler",
        type=address,
        metavar="ADDRESS",
        help="share the work: tls://HOST:8786, local:N, or none (do it here)",
    )


def scheduler_for(arguments: argparse.Namespace) -> ClusterSettings | None:
    """Return the scheduler that the call or the working folder names; None for none."""
    from ..engine.settings import cluster_settings

    return cluster_settings(Path(), arguments.scheduler)


def job_for(arguments: argparse.Namespace, kind: str, content: str) -> Job:
    """Return the job that workers of a scheduler get; `content` is the digest of a snapshot that came from a store."""
    import secrets

    from ..engine.job import Job, absolute, digest_of, program

    where = places(arguments)
    draft = absolute(getattr(arguments, "draft", None))
    snapshot = absolute(need_snapshot(arguments))
    baseline, exceptions = ("", "") if kind == "replay" else (absolute(where.baseline), absolute(where.exceptions))
    inputs = digest_of(snapshot, content, baseline, exceptions, draft)
    return Job(
        id=secrets.token_hex(6),
        kind=kind,
        snapshot=snapshot,
        baseline=baseline,
        exceptions=exceptions,
        draft=draft,
        inputs=inputs,
        program=program(),
    )


def places(arguments: argparse.Namespace) -> WorkFolder:
    """Return where the files lie: as the call says, else as the working folder does."""
    folder = read_workfolder(Path())
    keys = ("snapshot", "baseline", "exceptions")
    return replace(folder, **{key: getattr(arguments, key, None) or getattr(folder, key) for key in keys})


def need(path: Path | None, what: str) -> Path:
    """Return a path that a verb cannot do without; raises UsherError without it."""
    if path is None:
        raise _unnamed(what)
    return path


def _unnamed(what: str) -> UsherError:
    return UsherError(f'no {what} is named; write --{what} PATH, or {what} = "PATH" in {NAME}')


def need_snapshot(arguments: argparse.Namespace) -> Place:
    """Return where the snapshot lies; raises UsherError where none is named."""
    found = places(arguments).snapshot
    if found is None:
        raise _unnamed("snapshot")
    return found


def need_folder(arguments: argparse.Namespace, why: str) -> Path:
    """Return the snapshot's folder on this machine; raises UsherError where none is named, or a URL."""
    found = need_snapshot(arguments)
    if not isinstance(found, Path):
        raise UsherError(f"{why} needs the snapshot on this machine; copy {found} here, and name the copy")
    return found


def read_folder(arguments: argparse.Namespace, keep_tables: bool = False, where: Place | None = None) -> ReadSnapshot:
    """Reads the snapshot (`where`, if not where the call or the working folder says), and remembers in `arguments` what
    makes it doubtful: it is partial, the last gather failed, or it is older than --max-age.
    """
    from ..files.snapshot.folder import read_snapshot

    read = read_snapshot(where if where is not None else need_snapshot(arguments), keep_tables)
    snapshot = read.snapshot
    arguments.catalogue = snapshot.catalogue
    age = age_text(arguments, "the snapshot", snapshot.taken_at)
    if age:
        read = replace(read, snapshot=replace(snapshot, stale="; ".join(filter(None, (snapshot.stale, age)))))
    partial = f"the snapshot is partial: {', '.join(snapshot.partial)} not gathered" if snapshot.partial else ""
    remember_doubts(arguments, filter(None, (read.snapshot.stale, partial)))
    return read


def max_age(arguments: argparse.Namespace) -> float | None:
    """Return the oldest that a snapshot may be, in hours; None for any age."""
    given: float | None = getattr(arguments, "max_age", None)
    return given if given is not None else read_workfolder(Path()).max_age_hours


def age_text(arguments: argparse.Namespace, what: str, taken_at: int) -> str:
    """Return what to say of something of this time if it is older by the clock than a snapshot may be.

    "" if it is not.
    """
    from ..core.organisation.columns import HOUR

    limit = max_age(arguments)
    hours = (time.time() * 1_000_000 - taken_at) / HOUR
    return f"{what} is {hours:,.0f} hours old, more than {limit:g}" if limit is not None and hours > limit else ""


def remember_doubts(arguments: argparse.Namespace, doubts: Iterable[str]) -> None:
    """Remembers what makes the answer of this call doubtful.

    It is said first, and the exit status is 3 where it would be 0.
    """
    known: list[str] = arguments.__dict__.setdefault("doubts", [])
    known += [doubt for doubt in doubts if doubt not in known]


def say_doubts(arguments: argparse.Namespace, stream: TextIO, prefix: str = "", end: str = "") -> None:
    """Writes what makes the answer doubtful, a line each, once in a call."""
    from ..outputs.safe import for_terminal

    if not arguments.__dict__.get("doubts_said"):
        for doubt in arguments.__dict__.get("doubts", ()):
            print(f"{prefix}{for_terminal(doubt[:1].upper() + doubt[1:])}.{end}", file=stream)
    arguments.doubts_said = True


def read_inputs(arguments: argparse.Namespace, exceptions_too: bool = True, keep_tables: bool = False) -> Inputs:
    """Reads snapshot, baseline and exceptions; `keep_tables` keeps the tables as they were read."""
    from ..files.written.baseline import read_baseline
    from ..files.written.exceptions import read_exceptions

    where = places(arguments)
    need_snapshot(arguments)
    baseline = need(where.baseline, "baseline")
    with working("reading"):
        read = read_folder(arguments, keep_tables)
        rules, notes = read_baseline(baseline, read.snapshot.catalogue, read.snapshot)
        exceptions, more = (
            read_exceptions(where.exceptions, rules, read.snapshot) if where.exceptions and exceptions_too else ((), ())
        )
    return Inputs(read, rules, exceptions, (*notes, *more))


def read_state(arguments: argparse.Namespace) -> Snapshot:
    """Reads the snapshot alone."""
    with working("reading"):
        return read_folder(arguments).snapshot


def judged(arguments: argparse.Namespace, inputs: Inputs, chosen: Narrowing) -> CheckResult:
    """Return the whole check.

    By a scheduler's workers if one is named, else shared among the processors here where there is much to judge.
    """
    from ..core.verdicts.check import asked, check
    from ..engine.processes import LARGE, LARGE_WORK, at_hand

    whole, size = (inputs.snapshot, inputs.baseline, inputs.exceptions), len(inputs.snapshot.people)
    cluster = scheduler_for(arguments)
    many = sum(rule.subject == "people" for rule, _ in asked(*whole, chosen, set()))
    if cluster is None and (size < LARGE or size * many < LARGE_WORK or at_hand() < 2):
        with working("judging") as progress:
            return check(*whole, chosen, progress)
    from ..engine.checking import shared_by, to_check

    held = to_check(*whole)
    with working("judging") as progress, _executor(arguments, cluster, held, inputs.snapshot.content) as executor:
        return check(*whole, chosen, progress, shared_by(executor))


def _executor(arguments: argparse.Namespace, cluster: ClusterSettings | None, held: ToCheck, content: str) -> Executor:
    if cluster is None:
        from ..engine.processes import Processes, at_hand

        return Processes(held, at_hand())
    from ..engine.cluster import Cluster
    from ..engine.job import CHECK

    return Cluster(cluster, job_for(arguments, CHECK, content))


def narrowing(arguments: argparse.Namespace, snapshot: Snapshot, baseline: Baseline) -> Narrowing:
    """Return what the report is to speak of; raises UsherError for a name that nothing has."""
    from ..core.verdicts.codes import VERDICTS
    from ..core.verdicts.run import Narrowing

    return Narrowing(
        rules=known_names(arguments.rule, [rule.id for rule in baseline.rules], "rule"),
        services=known_names(arguments.service, [service.id for service in snapshot.services or ()], "service"),
        severities=None if arguments.severity is None else frozenset(arguments.severity),
        verdicts=known_names(arguments.verdict, VERDICTS, "verdict"),
        people=chosen_people(arguments, snapshot),
    )


def known_names(values: list[str] | None, known: Sequence[str], what: str) -> frozenset[str] | None:
    """Names as they are known, whatever their case; raises UsherError for one that is not."""
    return None if values is None else frozenset(known_name(value, known, what) for value in values)


def known_name(value: str, known: Sequence[str], what: str) -> str:
    """Return a name as it is known, whatever its case; raises UsherError with the nearest one."""
    if value in known:
        return value
    alike = [name for name in known if name.casefold() == value.casefold()]
    if len(alike) != 1:
        raise UsherError(f"there is no {what} {quoted(value)}; {nearest(value, known)}")
    return alike[0]


def chosen_people(arguments: argparse.Namespace, snapshot: Snapshot) -> Bools | None:
    """Return the people that --person, --group and --unit choose; None for everyone.

    Raises UsherError for a name that nothing has.
    """
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


def control_id(name: str, catalogue: Catalogue) -> str:
    """Return the id of a control that is named by id or by title; raises UsherError for none and for several."""
    found = catalogue.named(name)
    if len(found) > 1:
        ids = " or ".join(control.id for control in found)
        raise UsherError(f"{len(found)} controls are called {quoted(name)}; name one by id: {ids}")
    if not found:
        raise UsherError(f"there is no control {quoted(name)}; {nearest(name, catalogue.index)}")
    return found[0].id


def planned_meeting(name: str, agenda: Agenda) -> tuple[PlannedOn, int]:
    """Return a planned meeting: its service's meetings, and its number among them; raises UsherError."""
    import numpy as np

    table = agenda.resolver.snapshot.meetings
    if table is None:
        raise UsherError("the snapshot has no table meetings, so nothing is known about what is planned")
    found = agenda.find(name)
    if found is not None:
        return found
    known = table.ids.take(np.arange(len(table)))
    if name not in known:
        raise UsherError(f"there is no meeting {quoted(name)}; {nearest(name, known)}")
    about = [note for note in agenda.notes if f"the meeting {name} is" in note]
    raise UsherError(about[0] if about else f"the meeting {quoted(name)} has passed: only what is planned is judged")


def find_person(who: str, snapshot: Snapshot) -> int:
    """Return the number of an active person by id, by login (in any case), or by name where only one has it.

    Raises UsherError.
    """
    from ..core.organisation.columns import alike

    people = snapshot.people
    found = people.ids.find(who) or alike(people.logins, who) or alike(people.names, who)
    if len(found) == 1:
        return found[0]
    import numpy as np

    if found:
        ids = ", ".join(snapshot.people.ids.take(np.array(found[:8])))
        raise UsherError(f"{len(found)} people are called {quoted(who)}; name one by id: {ids}")
    if snapshot.inactive.ids.find(who) or alike(snapshot.inactive.logins, who):
        raise UsherError(f"{quoted(who)} is not active, so nothing is judged")
    every = np.arange(min(len(snapshot.people), 20_000))
    known = [*snapshot.people.logins.take(every), *snapshot.people.ids.take(every)]
    raise UsherError(f"there is no person {quoted(who)}; {nearest(who, known)}")


def look(arguments: argparse.Namespace, rows: int | None = None) -> RenderOptions:
    """Return how a result for people is to look on this terminal (or off it)."""
    import shutil

    from ..outputs.render_options import RenderOptions

    terminal = arguments.out is None and sys.stdout.isatty()
    width, _ = shutil.get_terminal_size((100, 40))
    show, is_asked = tuple(getattr(arguments, "show", None) or ()), rows is not None
    if rows is None:
        rows = 0 if show and ALL not in show else _ROWS
    return RenderOptions(
        width=max(width, 40),
        colour=terminal and not arguments.no_colour and not os.environ.get("NO_COLOR"),
        rows=max(rows, 0),
        show=show,
        fits_screen=not is_asked,
    )


@contextmanager
def _as_long_as_read(stream: TextIO) -> Iterator[TextIO]:
    """The reader of a pipe may have closed it: the result and the exit status stay the same."""
    try:
        yield stream
        stream.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


@contextmanager
def output(arguments: argparse.Namespace) -> Iterator[TextIO]:
    """Where the result goes: standard output, or a file that takes its place only when it is whole."""
    if arguments.out is None:
        with _as_long_as_read(sys.stdout) as stream:
            yield stream
        return
    from ..files.write import whole_file

    with whole_file(arguments.out) as stream:
        yield stream


def write(arguments: argparse.Namespace, result: str, answer: object, rows: int | None = None) -> None:
    """Writes a result in the form that is asked for; what makes it doubtful comes first."""
    from ..files.snapshot.catalogue import shipped_catalogue
    from ..outputs.forms import writer
    from ..outputs.titles import reading

    if arguments.format not in ("table", "markdown"):
        say_doubts(arguments, sys.stderr, "usher-gate: warning: ")
    elif result in _WITH_HEADLINE:
        arguments.doubts_said = True
    is_for_people = arguments.format in ("table", "markdown") and not getattr(arguments, "ids", False)
    catalogue = arguments.__dict__.get("catalogue") or shipped_catalogue()
    with output(arguments) as stream, reading(catalogue, is_for_people):
        say_doubts(arguments, stream, end="\n" if arguments.format == "markdown" else "")
        writer(result, arguments.format)(answer, stream, look(arguments, rows))


def say_notes(notes: tuple[str, ...]) -> None:
    """Notes go to standard error, the first few of them.

    Rules that do not apply to a service are one line for each service.
    """
    from ..core.verdicts.scope import NOT_PAIRED, unpaired_in
    from ..outputs.safe import for_terminal
    from ..outputs.section import some

    shown_notes = [note for note in notes if not note.endswith(NOT_PAIRED)]
    with _as_long_as_read(sys.stderr) as stream:
        for note in shown_notes[:_NOTES_SHOWN]:
            print(f"usher-gate: note: {for_terminal(note)}", file=stream)
        if len(shown_notes) > _NOTES_SHOWN:
            print(
                f"usher-gate: note: and {len(shown_notes) - _NOTES_SHOWN} more; --format json lists them all",
                file=stream,
            )
        for service, rules in unpaired_in(notes).items():
            do, their = ("rule does", "its") if len(rules) == 1 else ("rules do", "their")
            text = (
                f"{len(rules)} {do} not apply to service {service}, which supports none of {their} controls: "
                f"{some(rules, 8)}"
            )
            print(f"usher-gate: note: {for_terminal(text)}", file=stream)


@contextmanager
def working(what: str, counted: str = "") -> Iterator[Callable[[int, int], None] | None]:
    """A progress bar on standard error while something long is done, if that is a terminal.

    It shows how much of how much is done; if the whole is not known (0), how many `counted` are.
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
