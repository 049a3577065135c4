"""Brings the state of the directory and the services together in a snapshot, whole or not at all.

Reads the [[gather.source]] sections of usher-gate.toml; writes snapshots/TIME, and makes snapshot lead to it.
Earlier ones are kept."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from ..core.words.faults import nearest, quoted
from ..files.faults import UsherError
from .common import places

if TYPE_CHECKING:
    from ..sources.gather import Report
    from ..sources.interface import Progress, Row
    from ..sources.settings import GatherSettings

EXAMPLES = """examples (in the folder practice of the demo; docs/gather.md has a timer and a cron line):
  usher-gate gather
  usher-gate gather --partial --log-format json
  usher-gate gather --try roster"""
FAILED = 4


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "--partial", action="store_true", help="keep the rest where a source fails; what is missing is then unknown"
    )
    parser.add_argument(
        "--accept",
        action="append",
        default=[],
        metavar="SOURCE",
        help="take what this source gives this time, although it is much less than last time (repeatable)",
    )
    parser.add_argument(
        "--try",
        dest="attempt",
        metavar="SOURCE",
        help="show what a source would give, and what a mapping leaves over; write nothing",
    )
    parser.add_argument(
        "--log-format", choices=("text", "json"), default="text", metavar="FORM", help="text or json, on standard error"
    )


def run(arguments: argparse.Namespace) -> int:
    """Gathers."""
    log = _Log(arguments.log_format)
    try:
        return _run(arguments, log)
    except UsherError as error:
        if not log.is_json:
            raise
        log.failed(error)
        return error.status


def _run(arguments: argparse.Namespace, log: _Log) -> int:
    """Gather from every source of usher-gate.toml, or try one of them, and return the exit status."""
    from ..sources.gather import gather
    from ..sources.settings import read_gather

    folder = Path()
    settings = read_gather(folder)
    names = [source.name for source in settings.sources]
    for name in arguments.accept:
        if name not in names:
            raise UsherError(f"there is no source {quoted(name)}; {nearest(name, names)}")
    if arguments.attempt:
        return _attempt(arguments.attempt, settings, folder)
    link = places(argparse.Namespace()).snapshot or Path("snapshot")
    if not isinstance(link, Path):
        raise UsherError(
            f"a snapshot is gathered on this machine, and {link} is a URL; name a folder in usher-gate.toml"
        )
    with log.showing() as progress:
        done = gather(settings, folder, link, arguments.partial, log.report, progress, arguments.accept)
    for sources, people in done.people_by_givers.items():
        log.joined(sources, people)
    for note in done.notes:
        log.note(note)
    for source in done.missing:
        lost = [*source.tables, *(f"settings of {service}" for service in source.settings_of)]
        log.note(f"{source.source} is missing, so these are not known: {', '.join(lost)}")
    log.done(str(done.folder))
    rows = sum(sum(report.counts.values()) for report in done.reports)
    whole = f"{len(done.reports) - len(done.missing)} of {len(done.reports)} sources"
    print(f"{link} is now {done.folder}: {rows:,} rows and files from {whole}; earlier ones removed: {done.pruned}")
    return FAILED if done.missing else 0


def _quiet(_what: str, _done: int, _total: int) -> None:
    """Says nothing."""


class _Log:
    """Describes what is said while gathering: one line for each source, or one JSON object."""

    def __init__(self, form: str) -> None:
        self.is_json = form == "json"
        self._bar: object = None

    def _say(self, level: str, text: str, **fields: object) -> None:
        if self.is_json:
            stamp = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
            print(json.dumps({"time": stamp, "level": level, "message": text, **fields}), file=sys.stderr, flush=True)
        else:
            from ..outputs.safe import for_terminal

            prefix = "usher-gate: note: " if level == "note" else "usher-gate: "
            print(prefix + for_terminal(text), file=sys.stderr, flush=True)

    def report(self, report: Report) -> None:
        """How a source went."""
        names = (name if "." in name else f"{number:,} {name}" for name, number in report.counts.items())
        counts = ", ".join(names) or "nothing"
        filled: dict[str, dict[str, int]] = {}
        for mapped in report.mapped:
            filled.setdefault(mapped.table, {})[mapped.column] = mapped.filled
        fields = {"source": report.name, "kind": report.kind, "seconds": round(report.seconds, 3)}
        if report.failed:
            self._say("error", f"{report.name} ({report.kind}) failed: {report.failed}", **fields, state="failed")
        else:
            self._say(
                "info",
                f"{report.name} ({report.kind}): {counts}, {report.seconds:.1f} s",
                **fields,
                state="whole",
                rows=report.counts,
                filled=filled,
            )
            for table, columns in filled.items() if not self.is_json else ():
                total = report.counts.get(table, 0)
                partly = [f"{column} {number:,}" for column, number in columns.items() if 0 < number < total]
                none = [column for column, number in columns.items() if not number]
                parts = [f"only some have {', '.join(partly)}"] if partly else []
                parts += [f"none has {', '.join(none)}"] if none else []
                if parts and total:
                    self._say("info", f"{report.name}: of {total:,} {table} {'; '.join(parts)}")

    def joined(self, sources: Sequence[str], people: Sequence[str]) -> None:
        """How many people the same sources gave; as JSON also who they are."""
        count = "1 person comes" if len(people) == 1 else f"{len(people):,} people come"
        fields = {"sources": sources, "people": people} if self.is_json else {}
        self._say("info", f"{count} from {' and '.join(sources)}", **fields)

    def note(self, text: str) -> None:
        """A remark."""
        self._say("note", text)

    def failed(self, error: UsherError) -> None:
        """Nothing was replaced."""
        for line in str(error).splitlines():
            self._say("error", line, state="failed")

    def done(self, folder: str) -> None:
        """A snapshot is in place."""
        if self.is_json:
            self._say("info", "in place", snapshot=folder)

    @contextmanager
    def showing(self) -> Iterator[Callable[[str], Progress]]:
        """A bar for each source on a terminal; nothing elsewhere."""
        if self.is_json or not sys.stderr.isatty():
            yield lambda _: _quiet
            return
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

        from ..outputs.safe import for_terminal

        columns = (
            TextColumn("{task.description}", markup=False),
            BarColumn(),
            TextColumn("{task.fields[said]}", markup=False),
            TimeElapsedColumn(),
        )
        with Progress(*columns, console=Console(stderr=True), transient=True) as bars:

            def begin(name: str) -> Callable[[str, int, int], None]:
                task = bars.add_task(for_terminal(name), total=None, said="")
                return lambda what, done, total: bars.update(
                    task, completed=done, total=total or None, said=f"{done:,} {what}"
                )

            yield begin


def _attempt(name: str, settings: GatherSettings, folder: Path) -> int:
    """Shows what one source would give."""
    from ..sources.interface import Context, SourceFailed
    from ..sources.mapped import Leftover, Mapped
    from ..sources.roles import known_roles, role_counts
    from ..sources.secrets import Secrets
    from ..sources.trust import check_age, check_content

    named = next((source for source in settings.sources if source.name == name), None)
    if named is None:
        raise UsherError(
            f"there is no source {quoted(name)}; {nearest(name, [source.name for source in settings.sources])}"
        )
    context = Context(folder, Secrets(folder), _quiet)
    left = Leftover()
    try:
        if isinstance(named.source, Mapped):
            found, left = named.source.read(context)
        else:
            found = named.source.gather(context)
        doubt = ""
        try:
            check_age(named, context)
            check_content(named, found)
        except SourceFailed as error:
            doubt = f"{name} {error}"
    except SourceFailed as error:
        raise SourceFailed(context.secrets.hide(str(error))) from None
    import shutil

    from ..outputs.forms import writer
    from ..outputs.render_options import RenderOptions
    from ..outputs.results.attempt import AttemptAnswer
    from ..sources.place import odd_columns

    answer = AttemptAnswer(
        source=name,
        kind=named.kind,
        tables=found.tables,
        files={file: str(path) for file, path in found.files.items()},
        left_columns=left.columns,
        left_values=left.values,
        refused=frozenset(left.refused),
        notes=found.notes,
        mapped=[(mapped.table, mapped.column, mapped.attribute, mapped.filled) for mapped in found.mapped],
        roles=role_counts(found, known_roles(settings, folder)),
    )
    look = RenderOptions(max(60, shutil.get_terminal_size((100, 40)).columns))
    writer("attempt", "table")(answer, sys.stdout, look)
    for column, right in sorted(left.lost.items()):
        print(f"usher-gate: error: no row has {quoted(column)}, of which the mapping speaks; {right}", file=sys.stderr)
    wrong = [*odd_columns(found.tables), *_odd_settings(found.tables.get("settings", ()))]
    wrong += [context.secrets.hide(doubt)] if doubt else []
    for text in wrong:
        print(f"usher-gate: error: {text}", file=sys.stderr)
    return FAILED if left.refused or left.lost or wrong else 0


def _odd_settings(rows: Sequence[Row]) -> list[str]:
    """Return what is wrong with the values of settings, each thing once (of an organisation's own controls only
    `gather` knows).
    """
    from ..core.words.values import BadValue
    from ..files.snapshot.catalogue import shipped_catalogue

    known, found = shipped_catalogue().index, dict[str, None]()
    for row in rows:
        control = known.get(row["control"])
        if control is not None:
            try:
                control.kind.parse(row["value"])
            except BadValue as right:
                found[f"{quoted(row['value'])} is no value of {control.id}; write {right}"] = None
    return list(found)
