"""Lists the agreed exceptions with what each covers today; adds one, or ends one, in their file.

Reads what 'check' reads. 'add' and 'end' change the exceptions file and nothing else in it, comments included."""

from __future__ import annotations

import argparse
import sys
from datetime import date, timedelta
from pathlib import Path

from ..core.words.faults import quoted
from ..core.words.plural import plural
from ..files.faults import UsherError
from .common import Inputs, add_output, add_places, find_person, known_name, need, places, read_inputs, say_notes, write

TAKES = "[list | add ID | end ID]"
EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate exceptions
  usher-gate exceptions add X-2026-030 --rule ROOM-01 --who group=trial-crews \\
      --reason "The trial runs for two weeks." --approved-by "head of fleet" --until 2026-12-04
  usher-gate exceptions end X-2026-017"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    parser.add_argument(
        "action",
        metavar="ACTION",
        nargs="?",
        choices=("list", "add", "end"),
        default="list",
        help="list (default), add or end",
    )
    parser.add_argument("id", metavar="ID", nargs="?", help="the exception to add or end")
    group = parser.add_argument_group("of an exception to add")
    group.add_argument("--rule", metavar="ID", action="append", default=[], help="from which rule (repeatable)")
    group.add_argument(
        "--who",
        metavar="KEY=VALUE",
        action="append",
        default=[],
        help="the people it is for, as a selector; several must all hold",
    )
    group.add_argument(
        "--person", metavar="WHO", action="append", default=[], help="a person it is for, by login or id (repeatable)"
    )
    group.add_argument(
        "--partner",
        metavar="DOMAIN",
        action="append",
        default=[],
        help="for which partner, instead of --who (repeatable)",
    )
    group.add_argument("--service", metavar="ID", action="append", default=[], help="only on this service (repeatable)")
    group.add_argument("--reason", metavar="TEXT", help="why")
    group.add_argument("--approved-by", metavar="TEXT", help="who agreed")
    group.add_argument(
        "--until",
        metavar="DAY",
        help="the last day on which it counts; for 'end': by default the day before the snapshot",
    )
    add_places(parser)
    add_output(parser, "exceptions")


def run(arguments: argparse.Namespace) -> int:
    """Lists, adds or ends; raises UsherError for what cannot be added or ended."""
    if arguments.action != "list" and not arguments.id:
        raise UsherError(f"which exception? write usher-gate exceptions {arguments.action} ID")
    if arguments.action == "list":
        return _list(arguments, read_inputs(arguments))
    path = need(places(arguments).exceptions, "exceptions")
    return _add(arguments, path) if arguments.action == "add" else _end(arguments, path)


def _add(arguments: argparse.Namespace, path: Path) -> int:
    """Write a new exception into the file of exceptions, and say how many verdicts it covers today."""
    from ..core.verdicts.exceptions import taken_day
    from ..files.written.edit_exceptions import Draft, add_exception
    from ..files.written.workfolder import NAME, read_workfolder
    from ..outputs.safe import for_terminal

    lacking = [
        option
        for option, value in (
            ("--rule", arguments.rule),
            ("--who, --person or --partner", arguments.who or arguments.person or arguments.partner),
            ("--reason", (arguments.reason or "").strip()),
            ("--approved-by", (arguments.approved_by or "").strip()),
            ("--until", arguments.until),
        )
        if not value
    ]
    if lacking:
        raise UsherError(
            f"an exception without {', '.join(lacking)} is refused; each says from what, for which people, why, by "
            "whose approval, until when"
        )
    who = []
    for pair in arguments.who:
        key, equals, value = pair.partition("=")
        if not equals or not value:
            raise UsherError(f"--who {quoted(pair)} is no KEY=VALUE; write one such as group=pilots or unit=/Fleet")
        who.append((key, value))
    inputs = read_inputs(arguments, path.exists())
    day = _day(arguments.until)
    if day < taken_day(inputs.snapshot):
        raise UsherError(
            f"--until {day.isoformat()} is past: the snapshot is of {taken_day(inputs.snapshot).isoformat()}"
        )
    draft = Draft(
        id=arguments.id,
        rules=tuple(known_name(rule, [one.id for one in inputs.baseline.rules], "rule") for rule in arguments.rule),
        who=tuple(who),
        people=_people(arguments.person, inputs),
        partners=tuple(arguments.partner),
        services=tuple(arguments.service),
        reason=arguments.reason.strip(),
        approved_by=arguments.approved_by.strip(),
        until=day.isoformat(),
    )
    add_exception(path, draft, inputs.baseline, inputs.snapshot)
    covers = _covers(arguments, path)
    print(f"added {arguments.id} to {path}, until {draft.until}; it covers {plural(covers, 'verdict')} today")
    named = read_workfolder(Path()).exceptions
    if named is not None and named.resolve() != path.resolve():
        note = f"{NAME} reads {named}: without --exceptions {path} no verb knows of {arguments.id}"
        print(f"usher-gate: note: {for_terminal(note)}", file=sys.stderr)
    if not covers:
        print(
            f"usher-gate: note: {arguments.id} covers nothing today: no one it is for drifts from its rules",
            file=sys.stderr,
        )
    return 0


def _people(names: list[str], inputs: Inputs) -> tuple[tuple[str, str], ...]:
    """Return the ids and logins of some people."""
    import numpy as np

    people = inputs.snapshot.people
    rows = np.array([find_person(who, inputs.snapshot) for who in names], np.int32)
    return tuple(zip(people.ids.take(rows), people.logins.take(rows), strict=True))


def _covers(arguments: argparse.Namespace, path: Path) -> int:
    """Return how many verdicts an exception in a file covers today."""
    from ..core.verdicts.check import check

    arguments.exceptions = path
    inputs = read_inputs(arguments)
    rows = check(inputs.snapshot, inputs.baseline, inputs.exceptions).exceptions
    return next(row.covers for row in rows if row.id == arguments.id)


def _end(arguments: argparse.Namespace, path: Path) -> int:
    from ..core.verdicts.exceptions import taken_day
    from ..files.written.edit_exceptions import end_exception

    inputs = read_inputs(arguments)
    day = _day(arguments.until) if arguments.until else taken_day(inputs.snapshot) - timedelta(days=1)
    end_exception(path, arguments.id, day, inputs.baseline, inputs.snapshot)
    print(f"ended {arguments.id} in {path}: its last day is {day.isoformat()}")
    return 0


def _day(text: str) -> date:
    try:
        if len(text) != len("2026-11-20"):
            raise ValueError
        return date.fromisoformat(text)
    except ValueError:
        raise UsherError(f"--until {quoted(text)} is not a day; write it as 2026-11-20") from None


def _list(arguments: argparse.Namespace, inputs: Inputs) -> int:
    from ..core.verdicts.check import check
    from ..outputs.results.exceptions import ExceptionsAnswer

    result = check(inputs.snapshot, inputs.baseline, inputs.exceptions)
    write(arguments, "exceptions", ExceptionsAnswer(result, inputs.exceptions))
    say_notes(inputs.notes)
    return 0
