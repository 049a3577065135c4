"""Starts, validates and reads a baseline, and lists the controls that a baseline can speak of.

Without an option it validates the baseline and lists its rules. Reads the baseline and, where one is named, the snapshot."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..files.faults import UsherError
from .common import add_output, known_name, need, output, places, say_notes, write

if TYPE_CHECKING:
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.rules import Baseline, Rule
    from ..core.words.catalogue import Catalogue
    from ..outputs.baseline.answer import Reach

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
    add_output(parser, "rules")


def run(arguments: argparse.Namespace) -> int:
    """Starts, validates, lists or shows."""
    snapshot = _snapshot(arguments)
    if arguments.start:
        return _start(arguments, snapshot)
    catalogue = _catalogue(snapshot)
    if arguments.controls:
        from ..outputs.baseline.answer import ControlsAnswer

        controls = sorted(catalogue.controls, key=lambda control: control.id)
        write(arguments, "controls", ControlsAnswer(snapshot, controls))
        return 0
    from ..files.written.baseline import read_baseline
    from ..outputs.baseline.answer import RulesAnswer

    arguments.exceptions = None
    baseline, notes = read_baseline(need(places(arguments).baseline, "baseline"), catalogue, snapshot)
    say_notes(notes)
    if arguments.rule:
        return _show_rule(arguments, baseline, snapshot)
    write(arguments, "rules", RulesAnswer(snapshot, baseline))
    return 0


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
    from ..files.written.baseline import read_baseline

    if arguments.format != "table":
        raise UsherError("a starter baseline is YAML; leave --format out")
    text = starter_text(arguments.start)
    if snapshot is not None and snapshot.services is not None:
        baseline, _ = read_baseline(starter_path(arguments.start), snapshot.catalogue)
        text = keep_rules(
            text,
            frozenset(
                rule.id
                for rule in baseline.rules
                if not rule.of_services or any(rule.applies_to(service) for service in snapshot.services)
            ),
        )
    with output(arguments) as stream:
        stream.write(text)
    return 0


def _show_rule(arguments: argparse.Namespace, baseline: Baseline, snapshot: Snapshot | None) -> int:
    from ..outputs.baseline.answer import RuleAnswer

    rules = {rule.id: rule for rule in baseline.rules}
    rule = rules[known_name(arguments.rule, list(rules), "rule")]
    write(arguments, "rule", RuleAnswer(snapshot, rule, _reach(rule, snapshot)))
    return 0


def _reach(rule: Rule, snapshot: Snapshot | None) -> list[Reach]:
    """How many people the rule judges on each service."""
    if snapshot is None or rule.subject != "people":
        return []
    import numpy as np

    from ..core.settings.resolver import Resolver
    from ..core.verdicts.scope import Scopes, services_of
    from ..outputs.baseline.answer import Reach

    scopes = Scopes(Resolver(snapshot))
    found = []
    for service in services_of(rule, snapshot.services):
        scope = scopes.of(rule, service)
        found.append(
            Reach(
                service.id if service else None,
                int(np.count_nonzero(~scope.outside)) if scope.answered else None,
                len(snapshot.people),
                None if scope.answered else "; ".join(sorted(scope.notes)),
            )
        )
    return found
