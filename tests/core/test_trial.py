"""A trial of edits, which judges again only what hangs on them, says what judging everything again says."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from random import Random
from typing import Any

import numpy as np

from tests.compared import many
from tests.core.test_doors_against_reference import _value, random_doors, write
from tests.program import call
from tests.tiny import BASELINE, write_tiny
from usher_gate.core.door.agenda import Agenda
from usher_gate.core.door.hosts import LISTED, MAY_START, START, Hosts, everybody_on
from usher_gate.core.organisation.columns import MISSING
from usher_gate.core.organisation.services import Service
from usher_gate.core.organisation.settings import GROUP, MEETING, ORGANISATION, PERSON, UNIT
from usher_gate.core.organisation.snapshot import Snapshot
from usher_gate.core.settings.edited import NewValue, SettingTarget
from usher_gate.core.verdicts.checker import Checker
from usher_gate.core.verdicts.condition import Leaf
from usher_gate.core.verdicts.outcome import Judged, Root
from usher_gate.core.verdicts.planned import judge_meetings
from usher_gate.core.verdicts.rules import Rule
from usher_gate.core.verdicts.scope import services_of
from usher_gate.core.verdicts.trial import Remembered, Trial
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.files.written.baseline import read_baseline

DENSE = (5, 9, 11, 12, 14, 16, 18, 19)  # organisations in which many edits change something


class Plain(Trial):
    """Remembers nothing: every leaf is judged, hosts and planned meetings are gathered from the edited settings."""

    @cached_property
    def agenda(self) -> Agenda:
        return Agenda(self.resolver)

    def hosts(self, service: Service) -> Hosts:
        return everybody_on(self.resolver, service)

    def _leaf(self, leaf: Leaf, rule: Rule, service: Service | None) -> Judged:
        return Checker._leaf(self, leaf, rule, service)

    def leaf_of_meetings(self, leaf: Leaf, rule: Rule, service: Service) -> Judged | None:
        del leaf, rule, service
        return None


def _spot(snapshot: Snapshot, planned: list[str], rnd: Random) -> tuple[SettingTarget, NewValue]:
    service = rnd.choice(snapshot.services or ())
    control = rnd.choice(
        sorted(service.controls & {START, MAY_START, LISTED} if rnd.random() < 0.2 else service.controls)
        or sorted(service.controls)
    )
    kind = rnd.choice((ORGANISATION, ORGANISATION, UNIT, GROUP, PERSON, *([MEETING] if planned else [])))
    if kind == MEETING:
        return SettingTarget(service.id, control, kind, MISSING, f"meeting:{rnd.choice(planned)}"), NewValue(None)
    scope, target = "organisation", MISSING
    if kind == UNIT and snapshot.units is not None and snapshot.units.paths:
        target = rnd.randrange(len(snapshot.units.paths))
        scope = f"unit:{snapshot.units.paths[target]}"
    elif kind == GROUP and snapshot.groups is not None:
        target = rnd.randrange(4)
        scope = f"group:g{target}"
    elif kind == PERSON:
        target = rnd.randrange(len(snapshot.people))
        scope = f"person:{snapshot.people.ids.take(np.array([target]))[0]}"
    else:
        kind = ORGANISATION
    value = None if rnd.random() < 0.2 else _value(control, rnd)
    return SettingTarget(service.id, control, kind, target, scope), NewValue(value, rnd.random() < 0.7)


def _root(root: Root | None) -> object:
    return None if root is None else (root.service, root.control, root.scope, root.value)


def _said(checker: Checker) -> Iterator[Any]:
    """All that is said of everyone, of every planned meeting and of people who is invited."""
    for planned in checker.agenda.services.values():
        outcome, needs = planned.met
        yield planned.open.tolist(), outcome.tolist(), needs.tolist()
    for rule in checker.baseline.rules:
        for service in services_of(rule, checker.snapshot.services):
            if rule.subject == "meetings":
                for subject, detail in judge_meetings(rule, service, checker).found:
                    yield rule.id, service and service.id, subject, detail.verdict, detail.reason, _root(detail.root)
                continue
            verdicts = checker.judge(rule, service)
            yield rule.id, service and service.id, verdicts.verdict.tolist(), verdicts.would_be.tolist()
            for leaf in verdicts.judged:
                for code in leaf.codes.tolist():
                    out = leaf.outcome(code)
                    yield leaf.leaf.number, out.verdict, out.reason, out.actual, _root(out.root)


def _compare(seed: int) -> int:
    rnd = Random(seed)
    org, meetings = random_doors(rnd)
    with tempfile.TemporaryDirectory() as name:
        write(org, meetings, Path(name), rnd)
        snapshot = read_snapshot(Path(name) / "snapshot").snapshot
        baseline, _ = read_baseline(Path(name) / "baseline.yaml", snapshot.catalogue, snapshot)
    if not len(snapshot.people) or not snapshot.services or not baseline.rules:
        return 0
    base, compared = Remembered(snapshot, baseline), 0
    now, planned = list(_said(base)), [name for each in base.agenda.services.values() for name in each.ids]
    for _ in range(40):
        edits = dict(_spot(snapshot, planned, rnd) for _ in range(rnd.choice((1, 1, 2, 3))))
        quick, plain = list(_said(Trial(base, edits))), list(_said(Plain(base, edits)))
        assert quick == plain, edits
        compared += plain != now
    return compared


def test_a_trial_says_what_judging_everything_again_says() -> None:
    changed = sum(_compare(seed) for seed in (*DENSE, *range(100, 100 + many(len(DENSE)) - len(DENSE))))
    assert changed >= 45, f"only {changed} edits changed anything"


def test_rules_that_ask_the_same_are_counted_each(tmp_path: Path) -> None:
    """A person is free of drift only when all of them hold."""
    first = BASELINE.partition("  - id: R2")[0].replace("    pinned: true\n", "")
    again = first.partition("rules:\n")[2]
    settings = "service,control,scope,value\ntidecall,door.waiting-room,person:P2,everyone\ntidecall,door.waiting-room,organisation,guests\n"
    for copies in (1, 2, 3):
        more = "".join(again.replace("id: R1", f"id: S{number}") for number in range(copies - 1))
        none = "usher-gate: exceptions/1\nexceptions: []\n"
        texts: dict[str, str | bytes | None] = {
            "baseline.yaml": first + more,
            "snapshot/settings.csv": settings,
            "exceptions.yaml": none,
        }
        folder = write_tiny(tmp_path / str(copies), texts)
        (root,) = json.loads(call("check", "--format", "json", cwd=folder).out)["roots"]
        assert (root["people"], root["verdicts"], root["freed"], root["harms"]) == (1, copies, 1, 0)
