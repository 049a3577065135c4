"""Starts, validates and reads a baseline, and lists the controls that a baseline can speak of.

Without an option it validates the baseline and lists its rules.
Reads the baseline and, if one is named, the snapshot."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from ..files.faults import UsherError
from .common import add_output, add_rows, known_name, need, output, places, read_folder, say_notes, write

if TYPE_CHECKING:
    from ..core.organisation.snapshot import Snapshot
    from ..core.verdicts.rules import Baseline, Rule
    from ..core.words.catalogue import Catalogue
    from ..outputs.results.baseline import RuleReach

_FILES = dict.fromkeys(("sign-in", "meetings", "everything"), "every-organisation")  # parts of a shipped baseline
STARTERS = ("everything", "sign-in", "meetings", "every-organisation", "high-assurance")
EXAMPLES = """examples (in the folder that 'usher-gate demo' wrote):
  usher-gate baseline
  usher-gate baseline --rule DOOR-01
  usher-gate baseline --start high-assurance --out stricter.yaml
  usher-gate baseline --uncovered
  usher-gate baseline --controls --format json"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What the verb takes."""
    what = parser.add_mutually_exclusive_group()
    what.add_argument(
        "--start",
        choices=STARTERS,
        metavar="NAME",
        help=f"write a starter baseline, with the rules that the snapshot can answer: {', '.join(STARTERS)}",
    )
    what.add_argument("--rule", metavar="ID", help="show one rule, what it judges and how many people it reaches")
    what.add_argument(
        "--controls", action="store_true", help="list the controls of the catalogue and the organisation's own"
    )
    what.add_argument(
        "--uncovered", action="store_true", help="list the controls, facts and resources that no rule asks about"
    )
    parser.add_argument(
        "--all", action="store_true", help="with --start: also the rules that the snapshot cannot answer"
    )
    add_rows(parser)
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
        from ..outputs.results.baseline import ControlsAnswer

        controls = sorted(catalogue.controls, key=lambda control: control.id)
        write(arguments, "controls", ControlsAnswer(snapshot, controls))
        return 0
    from ..files.written.baseline import read_baseline
    from ..outputs.results.baseline import RulesAnswer

    arguments.exceptions = None
    baseline, notes = read_baseline(need(places(arguments).baseline, "baseline"), catalogue, snapshot)
    say_notes(notes)
    if arguments.uncovered:
        from ..core.verdicts.uncovered import uncovered
        from ..outputs.results.baseline import UncoveredAnswer

        if snapshot is None:
            raise UsherError("--uncovered is about the services of a snapshot; name it with --snapshot")
        write(
            arguments, "uncovered", UncoveredAnswer(snapshot, baseline, uncovered(snapshot, baseline)), arguments.rows
        )
        return 0
    if arguments.rule:
        return _show_rule(arguments, baseline, snapshot)
    write(arguments, "rules", RulesAnswer(snapshot, baseline))
    return 0


def _snapshot(arguments: argparse.Namespace) -> Snapshot | None:
    arguments.exceptions = None
    where = places(arguments).snapshot
    return read_folder(arguments, where=where).snapshot if where is not None else None


def _catalogue(snapshot: Snapshot | None) -> Catalogue:
    from ..files.snapshot.catalogue import shipped_catalogue

    return snapshot.catalogue if snapshot is not None else shipped_catalogue()


def _start(arguments: argparse.Namespace, snapshot: Snapshot | None) -> int:
    """Writes the rules of a starter that the snapshot can answer (all of them without a snapshot, or with --all)."""
    from ..baselines import keep_rules, starter_path, starter_text
    from ..files.written.baseline import read_baseline
    from ..outputs.section import some

    if arguments.format != "table":
        raise UsherError("a starter baseline is YAML; leave --format out")
    name = _FILES.get(arguments.start, arguments.start)
    baseline, _ = read_baseline(starter_path(name), _catalogue(snapshot))
    rules = [rule for rule in baseline.rules if _of_part(rule, arguments.start)]
    left_out = set[str]() if snapshot is None or arguments.all else _unanswerable(snapshot, baseline)
    left_out &= {rule.id for rule in rules}
    text = keep_rules(starter_text(name), frozenset(rule.id for rule in rules if rule.id not in left_out))
    with output(arguments) as stream:
        stream.write(text)
    if left_out:
        names = some(sorted(left_out), 5)
        said = f"{len(left_out)} of {len(rules)} rules are left out, which the snapshot cannot answer ({names})"
        say_notes((f"{said}; --all takes them too",))
    return 0


def _of_part(rule: Rule, part: str) -> bool:
    """Return whether a rule belongs to a part of the starter.

    `sign-in` asks for accounts, proofs and partners, `meetings` for everything else.
    """
    from ..core.verdicts.areas import ACCOUNT, GUEST, PARTNER, SIGN_IN, areas_of

    is_about_sign_in = rule.subject != "meetings" and areas_of(rule) <= {SIGN_IN, ACCOUNT, PARTNER, GUEST}
    return part not in _FILES or part == "everything" or is_about_sign_in == (part == "sign-in")


def _unanswerable(snapshot: Snapshot, baseline: Baseline) -> set[str]:
    """Return the rules of which nothing is known: found by judging the snapshot by them."""
    from ..core.verdicts.check import check
    from ..core.verdicts.codes import EXEMPT, UNKNOWN, VERDICTS

    result = check(snapshot, baseline)
    found = set(result.judging_nobody)
    for rule in baseline.rules:
        counts = result.rule_counts[rule.id]
        judged = sum(counts[code] for code in range(len(VERDICTS)) if code != EXEMPT)
        if not judged or judged == counts[UNKNOWN]:
            found.add(rule.id)
    return found


def _show_rule(arguments: argparse.Namespace, baseline: Baseline, snapshot: Snapshot | None) -> int:
    from ..outputs.results.baseline import RuleAnswer

    rules = {rule.id: rule for rule in baseline.rules}
    rule = rules[known_name(arguments.rule, list(rules), "rule")]
    write(arguments, "rule", RuleAnswer(snapshot, rule, _reach(rule, snapshot)))
    return 0


def _reach(rule: Rule, snapshot: Snapshot | None) -> list[RuleReach]:
    """Return how many people the rule judges on each service."""
    if snapshot is None or rule.subject != "people":
        return []
    import numpy as np

    from ..core.settings.resolver import Resolver
    from ..core.verdicts.scope import Scopes, services_of
    from ..outputs.results.baseline import RuleReach

    scopes = Scopes(Resolver(snapshot))
    found = []
    for service in services_of(rule, snapshot.services):
        scope = scopes.of(rule, service)
        found.append(
            RuleReach(
                service.id if service else None,
                int(np.count_nonzero(~scope.outside)) if scope.answered else None,
                len(snapshot.people),
                None if scope.answered else "; ".join(sorted(scope.notes)),
            )
        )
    return found
