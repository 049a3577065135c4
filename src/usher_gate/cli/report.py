"""Writes one page for people who never open a terminal: what is wrong, what to do first, where, since when and why.

Reads what 'check' reads, the checks kept before, and with --plan what 'mend' wrote.
The page needs no network, and sends nothing."""

from __future__ import annotations

import argparse
import sys
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.words.faults import Faults, quoted
from ..files.faults import UsherError
from .common import (
    add_narrowing,
    add_places,
    add_scheduler,
    judged,
    narrowing,
    places,
    read_inputs,
    say_doubts,
    say_notes,
    working,
)

if TYPE_CHECKING:
    from ..core.verdicts.result import CheckResult
    from ..outputs.report.answer import Plan
    from ..outputs.results.door import DoorAnswer
    from ..outputs.results.guests import GuestsAnswer
    from ..outputs.results.history import HistoryAnswer
    from ..outputs.results.holes import HolesAnswer
    from .common import Inputs

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate report
  usher-gate report --unit /Fleet --title "The fleet" --out fleet.html
  usher-gate mend --format json --out plan.json
  usher-gate report --plan plan.json"""
_NEEDS = ("jinja2", "matplotlib")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    group = parser.add_argument_group("the page")
    group.add_argument(
        "--out", type=Path, default=Path("report.html"), metavar="FILE", help="where to write it (default: report.html)"
    )
    group.add_argument(
        "--title", metavar="TEXT", help="its heading (default: Meetings and sign-in against the baseline)"
    )
    group.add_argument("--plan", type=Path, metavar="FILE", help="show this plan: mend's JSON, or a file of changes")
    add_places(parser)
    add_narrowing(parser, verdicts=False)
    add_scheduler(parser)


def run(arguments: argparse.Namespace) -> int:
    """Checks, and writes the page; drift is no failure of the page; raises UsherError for want of its libraries."""
    if any(find_spec(name) is None for name in _NEEDS):
        raise UsherError("a report needs Jinja2 and Matplotlib; install them with: pip install 'usher-gate[report]'")
    from ..files.write import whole_file
    from ..outputs.render_options import RenderOptions
    from ..outputs.report.answer import ReportAnswer
    from ..outputs.report.html import write_report
    from ..outputs.safe import harmless
    from ..outputs.section import joined
    from ..outputs.titles import reading
    from .keeping import if_usable, since_of

    inputs = read_inputs(arguments, keep_tables=arguments.plan is not None)
    chosen = narrowing(arguments, inputs.snapshot, inputs.baseline)
    plan = _plan(arguments.plan, inputs) if arguments.plan is not None else None
    result = _of_chosen(judged(arguments, inputs, chosen))
    whole = not any(getattr(arguments, name) for name in ("rule", "service", "person", "group", "unit", "severity"))
    days = places(arguments).observed_days
    result = replace(
        result, line_of=inputs.read.setting_line, observed_days=result.observed_days if days is None else days
    )
    history, not_shown = None, ""
    with working("drawing"):
        doors = _doors(arguments, result)
        if whole:
            usable, why = if_usable(lambda: (since_of(result), _history(result, doors)))
            since, history = usable or (None, None)
            result = replace(result, since=since)
            not_shown = f"the page does not show how it has gone: {why}" if why else ""
        part = (
            joined([*(arguments.unit or ()), *(arguments.group or ())]) if arguments.unit or arguments.group else None
        )
        title = "Meetings and sign-in against the baseline"
        answer = ReportAnswer(
            title=arguments.title or (f"{part}: {title[0].lower()}{title[1:]}" if part else title),
            result=result,
            history=history,
            doors=doors,
            holes=_holes(inputs, result),
            guests=_guests(result),
            plan=plan,
            exceptions=inputs.exceptions,
            part=part,
        )
        say_doubts(arguments, sys.stderr, "usher-gate: warning: ")
        with whole_file(arguments.out) as stream, reading(answer.result.snapshot.catalogue, True):
            write_report(answer, harmless(stream, "html"), RenderOptions(100, False, 0))
    say_notes(tuple(filter(None, (not_shown, f"written to {arguments.out}"))))
    return 0


def _of_chosen(result: CheckResult) -> CheckResult:
    """Return a result that names only chosen people as locked out, or as let in under conditions."""
    import numpy as np

    if result.chosen.all():
        return result
    chosen = frozenset(result.snapshot.people.ids.take(np.flatnonzero(result.chosen)))
    lockouts = []
    for each in result.lockouts:
        people = tuple(person for person in each.people if person in chosen)
        if people:
            lockouts.append(replace(each, people=people, all=each.all and people == each.people))
    conditional = tuple(each for each in result.conditional if each.person in chosen)
    return replace(result, lockouts=tuple(lockouts), conditional=conditional)


def _history(result: CheckResult, doors: DoorAnswer | None) -> HistoryAnswer | None:
    """Return the checks of this organisation that were kept before this one, and this one; None without any."""
    from ..core.history.intervals import counted
    from ..files.history.store import Check
    from ..outputs.results.history import HistoryStep
    from .history import history_of
    from .keeping import kept_before, moved_since

    kept, moved, snapshot = kept_before(result.snapshot), moved_since(result), result.snapshot
    if kept is None:
        return None
    store, checks = kept
    if moved is None or checks[-1].taken_at >= snapshot.taken_at:
        return history_of(store, checks)
    history = history_of(store, checks)
    opened = {
        ("door", f"{door.service}\t{door.kind}"): door.open for door in (doors.doors if doors is not None else ())
    }
    now = Check(
        number=checks[-1].number + 1,
        organisation=snapshot.name,
        time=snapshot.taken_text,
        taken_at=snapshot.taken_at,
        baseline_name=result.baseline.name,
        baseline_version=result.baseline.version,
        digests={},
    )
    return replace(history, steps=(*history.steps, HistoryStep(now, {**counted(result), **opened}, moved.data_point)))


def _doors(arguments: argparse.Namespace, result: CheckResult) -> DoorAnswer | None:
    from ..core.settings.resolver import Resolver
    from .door import doors_of

    services = [
        service
        for service in result.snapshot.services or ()
        if not arguments.service or service.id in arguments.service
    ]
    chosen = None if result.chosen.all() else result.chosen
    return doors_of(Resolver(result.snapshot), services, (), chosen, False) if services else None


def _holes(inputs: Inputs, result: CheckResult) -> HolesAnswer | None:
    from .holes import holes_of, proofs_asked

    wanted = proofs_asked(inputs.snapshot, result.rules)
    if inputs.snapshot.access_rules is None or not wanted:
        return None
    return holes_of(inputs.snapshot, wanted, result.chosen)


def _guests(result: CheckResult) -> GuestsAnswer:
    from ..files.written.policy import read_policy
    from .guests import guests_of

    return guests_of(result.snapshot, read_policy(Path(), result.snapshot), result.chosen)


def _plan(path: Path, inputs: Inputs) -> Plan:
    """Return a plan: what `mend --format json` wrote, or a file of changes, which is judged here."""
    if not path.is_file():
        raise UsherError(f"{path} does not exist; write one with: usher-gate mend --format json --out {path}")
    return _mended(path, inputs) if path.suffix.lower() == ".json" else _changes(path, inputs)


def _mended(path: Path, inputs: Inputs) -> Plan:
    """Read a plan that `mend --format json` wrote, for the page of the report."""
    import json

    from ..files.binary import read_text
    from ..outputs.report.answer import Plan

    try:
        read = json.loads(read_text(path))
        form, taken, plan = read["usher-gate"], (read["organisation"], read["taken_at"]), read["plan"]
        first = f"{plan['edits']:,} edits end {plan['ended']:,} of {plan['drifting']:,} findings: {plan['proof']}."
        lines = tuple(map(_edit_told, read["edits"]))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise UsherError(f"{path}:1: is no plan; write one with: usher-gate mend --format json --out {path}") from None
    if form != "mending/1":
        raise UsherError(f"{path}:1: is of the form {quoted(str(form))}, not mending/1; write one with usher-gate mend")
    if taken != (inputs.snapshot.name, inputs.snapshot.taken_text):
        raise UsherError(f"{path}:1: is a plan for {taken[0]} as of {taken[1]}, not for this snapshot; mend it anew")
    return Plan(first, lines)


def _edit_told(edit: dict[str, dict[str, Any]]) -> str:
    """Return an edit of a plan in words."""
    from ..core.words.compare import shown

    if "unset" in edit:
        gone = edit["unset"]
        return f"{gone['service']}: take {gone['control']} at {gone['scope']} away"
    made = edit["set"]
    pinned = ", pinned" if made["pinned"] else ""
    return f"{made['service']}: set {made['control']} to {shown(made['value'])} at {made['scope']}{pinned}"


def _changes(path: Path, inputs: Inputs) -> Plan:
    from ..core.changes.apply import apply_changes, descriptions
    from ..core.changes.compare import Compared
    from ..files.faults import stop_if_any
    from ..files.written.changes import read_changes
    from ..outputs.report.answer import Plan

    faults = Faults()
    changes = read_changes(path, inputs.snapshot, inputs.read.tables, faults)
    applied = apply_changes(inputs.snapshot, inputs.read.tables, changes, str(path), faults)
    stop_if_any(faults)
    assert applied is not None
    made = Compared(inputs.snapshot, applied, changes, inputs.baseline, inputs.exceptions).comparison()
    first = f"{changes.title}: it ends {len(made.ended):,} findings and begins {len(made.begun):,}."
    return Plan(first, tuple(descriptions(changes)))
