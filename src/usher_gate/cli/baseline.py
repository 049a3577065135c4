"""Starts, validates and reads a baseline, and lists the controls that a baseline can speak of.

Without an option it validates the baseline and lists its rules. Reads the baseline and, where one is named, the snapshot."""

from __future__ import annotations

import argparse
import textwrap
from typing import TYPE_CHECKING, Any

from ..core.words.faults import nearest, quoted
from ..files.faults import UsherError
from .common import add_output, look, need, output, places, say_notes

if TYPE_CHECKING:
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.rules import Baseline, Rule
    from ..core.words.catalogue import Catalogue
    from ..outputs.digest import Section

EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate baseline
  usher-gate baseline --rule DOOR-01
  usher-gate baseline --start high-assurance --out stricter.yaml
  usher-gate baseline --controls --format json"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    what = parser.add_mutually_exclusive_group()
    what.add_argument(
        "--start",
        choices=("every-organisation", "high-assurance"),
        help="write a starter baseline, with the rules that the snapshot's services can answer",
    )
    what.add_argument("--rule", metavar="ID", help="show one rule, what it judges and how many people it reaches")
    what.add_argument(
        "--controls", action="store_true", help="list the controls of the catalogue and the organisation's own"
    )
    group = parser.add_argument_group("files")
    from pathlib import Path

    group.add_argument("--snapshot", type=Path, metavar="DIR", help="the snapshot folder")
    group.add_argument("--baseline", type=Path, metavar="FILE", help="the baseline")
    add_output(parser, ("table", "json"))


def run(arguments: argparse.Namespace) -> int:
    """Starts, validates, lists or shows."""
    snapshot = _snapshot(arguments)
    if arguments.start:
        return _start(arguments, snapshot)
    catalogue = _catalogue(snapshot)
    if arguments.controls:
        return _show(
            arguments,
            "controls",
            [_control(control) for control in sorted(catalogue.controls, key=lambda each: each.id)],
            _controls_section,
        )
    from ..files.written.baseline import read_baseline

    arguments.exceptions = None
    baseline, notes = read_baseline(need(places(arguments).baseline, "baseline"), catalogue, snapshot)
    say_notes(notes)
    if arguments.rule:
        return _show_rule(arguments, baseline, snapshot)
    return _show(
        arguments, "rules", [_rule(rule) for rule in baseline.rules], lambda rows: _rules_section(baseline, rows)
    )


def _snapshot(arguments: argparse.Namespace) -> Snapshot | None:
    from ..files.snapshot.folder import read_snapshot

    arguments.exceptions = None
    where = places(arguments).snapshot
    return read_snapshot(where).snapshot if where is not None else None


def _catalogue(snapshot: Snapshot | None) -> Catalogue:
    from ..files.snapshot.catalogue import shipped_catalogue

    return snapshot.catalogue if snapshot is not None else shipped_catalogue()


def _start(arguments: argparse.Namespace, snapshot: Snapshot | None) -> int:
    """Writes the rules of a starter that can be judged on the snapshot's services (all of them without a snapshot)."""
    from ..baselines import keep_rules, starter_path, starter_text
    from ..core.verdicts.condition import restrict
    from ..files.written.baseline import read_baseline

    if arguments.format != "table":
        raise UsherError("a starter baseline is YAML; leave --format out")
    text = starter_text(arguments.start)
    if snapshot is not None and snapshot.services is not None:
        baseline, _ = read_baseline(starter_path(arguments.start), snapshot.catalogue)
        supported = [service.controls for service in snapshot.services]
        text = keep_rules(
            text,
            frozenset(
                rule.id
                for rule in baseline.rules
                if not rule.controls
                or any(rule.controls & controls and restrict(rule.expect, controls) for controls in supported)
            ),
        )
    with output(arguments) as stream:
        stream.write(text)
    return 0


def _control(control: Any) -> dict[str, Any]:
    kind = control.kind
    strict = {
        "flag": kind.words[-1:] and kind.words[-1],
        "level": kind.words[-1:] and kind.words[-1],
        "number": "higher" if kind.higher else "lower",
    }.get(kind.name)
    return {
        "id": control.id,
        "title": control.title,
        "kind": kind.name,
        "values": list(kind.words),
        "strict": strict,
        "weak": control.weak,
        "own": control.own,
    }


def _rule(rule: Rule) -> dict[str, Any]:
    from ..core.verdicts.condition import in_words

    return {
        "id": rule.id,
        "severity": rule.severity,
        "subject": rule.subject,
        "audience": rule.audience.text,
        "except": rule.exempted.text if rule.exempted else None,
        "services": list(rule.services) if rule.services else None,
        "pinned": rule.pinned or None,
        "title": rule.title,
        "expects": in_words(rule.expect),
        "because": rule.because,
        "mend": rule.mend,
        "maps": {name: list(ids) for name, ids in rule.maps.items()},
    }


def _controls_section(rows: list[dict[str, Any]]) -> Section:
    from ..outputs.digest import Section

    return Section(
        f"{len(rows)} controls",
        (("control", False), ("kind", False), ("values, the weakest first", False), ("what it is", False)),
        tuple(
            (
                row["id"],
                row["kind"],
                " < ".join(row["values"]) or (f"{row['strict']} is stricter" if row["strict"] else "words joined by ;"),
                row["title"],
            )
            for row in rows
        ),
    )


def _rules_section(baseline: Baseline, rows: list[dict[str, Any]]) -> Section:
    from ..outputs.digest import Section

    return Section(
        f"{baseline.name} {baseline.version}: valid, {len(rows)} rules",
        (("rule", False), ("severity", False), ("whom", False), ("what it asks", False)),
        tuple(
            (
                row["id"],
                row["severity"],
                row["audience"] if row["subject"] == "people" else f"the {row['subject']}",
                row["title"],
            )
            for row in rows
        ),
    )


def _show(arguments: argparse.Namespace, name: str, rows: list[dict[str, Any]], section: Any) -> int:
    from ..outputs.json_ import text
    from ..outputs.table import console, draw

    with output(arguments) as stream:
        if arguments.format == "json":
            stream.write(
                f'{{"usher-gate": "{name}/1", "{name}": [\n  ' + ",\n  ".join(text(row) for row in rows) + "\n]}\n"
            )
        else:
            with console(stream, look(arguments)) as out:
                draw(out, section(rows))
    return 0


def _show_rule(arguments: argparse.Namespace, baseline: Baseline, snapshot: Snapshot | None) -> int:
    from ..outputs.json_ import text

    rule = next((each for each in baseline.rules if each.id == arguments.rule), None)
    if rule is None:
        raise UsherError(
            f"there is no rule {quoted(arguments.rule)}; {nearest(arguments.rule, [each.id for each in baseline.rules])}"
        )
    shown, reach = _rule(rule), _reach(rule, snapshot)
    with output(arguments) as stream:
        if arguments.format == "json":
            stream.write(text({"usher-gate": "rule/1", **shown, "reaches": reach}) + "\n")
            return 0
        from ..outputs.safe import for_terminal as safe

        lines = [
            f"{rule.id} ({rule.severity})  {rule.title}",
            f"  asks      {shown['expects']}",
            f"  whom      {shown['audience']}" + (f", except {shown['except']}" if shown["except"] else "")
            if rule.subject == "people"
            else f"  whom      the {rule.subject}",
        ]
        lines += [f"  {key:<9} {shown[key]}" for key in ("pinned", "because", "mend") if shown[key]]
        lines += [f"  maps to   {name}: {', '.join(ids)}" for name, ids in rule.maps.items()]
        lines += [
            f"  reaches   {each['people']:,} of {each['of']:,} people{' on ' + each['service'] if each['service'] else ''}"
            if each["people"] is not None
            else f"  reaches   unknown: {each['why']}"
            for each in reach
        ]
        width = look(arguments).width
        for line in lines:
            stream.writelines(
                part + "\n"
                for part in textwrap.wrap(safe(line), width, subsequent_indent=" " * 12, break_on_hyphens=False)
            )
    return 0


def _reach(rule: Rule, snapshot: Snapshot | None) -> list[dict[str, Any]]:
    """How many people the rule judges on each service."""
    if snapshot is None or rule.subject != "people":
        return []
    import numpy as np

    from ..core.settings.resolver import Resolver
    from ..core.verdicts.scope import Scopes, services_of

    scopes = Scopes(Resolver(snapshot))
    found = []
    for service in services_of(rule, snapshot.services):
        scope = scopes.of(rule, service)
        found.append(
            {
                "service": service.id if service else None,
                "people": int(np.count_nonzero(~scope.outside)) if scope.answered else None,
                "of": len(snapshot.people),
                "why": None if scope.answered else "; ".join(sorted(scope.notes)),
            }
        )
    return found
