"""A check may be judged in parts, by rules or by people, and merged: the whole is the same byte for byte. Judging changes nothing."""

from __future__ import annotations

import io
import tempfile
from pathlib import Path
from random import Random

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.organisations import organisations, write_org
from tests.reference import Org
from usher_gate.core.organisation.snapshot import Snapshot
from usher_gate.core.verdicts.checker import Checker
from usher_gate.core.verdicts.result import CheckResult
from usher_gate.core.verdicts.rules import AgreedException, Baseline
from usher_gate.core.verdicts.run import Narrowing, Run, Task, check
from usher_gate.core.verdicts.scope import pairs
from usher_gate.files.snapshot.folder import read_snapshot
from usher_gate.files.written.baseline import read_baseline
from usher_gate.files.written.exceptions import read_exceptions
from usher_gate.outputs.check.csv_ import write_csv
from usher_gate.outputs.check.json_ import write_json
from usher_gate.outputs.look import Look


def read(made: tuple[Org, Random]) -> tuple[Snapshot, Baseline, tuple[AgreedException, ...]]:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_org(made[0], folder, made[1], ("csv",))
        snapshot = read_snapshot(folder / "snapshot").snapshot
        baseline, _ = read_baseline(folder / "baseline.yaml", snapshot.catalogue, snapshot)
        exceptions, _ = read_exceptions(folder / "exceptions.yaml", baseline, snapshot)
    return snapshot, baseline, exceptions


def written(result: CheckResult) -> str:
    stream = io.StringIO()
    write_json(result, stream, Look())
    write_csv(result, stream, Look())
    return stream.getvalue()


@settings(max_examples=60, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(organisations(), st.booleans(), st.integers(2, 4), st.randoms(use_true_random=False))
def test_runs_of_rules_or_of_people_make_the_whole(
    made: tuple[Org, Random], by_rule: bool, parts: int, rnd: Random
) -> None:
    snapshot, baseline, exceptions = read(made)
    notes: set[str] = set()
    every = tuple(pairs(baseline, snapshot, Narrowing().keeps, notes))
    size = len(snapshot.people)
    if by_rule:
        part_of = {rule.id: rnd.randrange(parts) for rule, _ in every}
        tasks = [Task(tuple(pair for pair in every if part_of[pair[0].id] == number)) for number in range(parts)]
    else:
        where = np.array([rnd.randrange(parts) for _ in range(size)], np.int32)
        tasks = [Task(every, where == number, number == 0) for number in range(parts)]
    first, *others = [Run(Checker(snapshot, baseline, exceptions), Narrowing(), task).judge() for task in tasks]
    for other in others:
        first.merge(other)
    first.notes |= notes
    assert written(first.result()) == written(check(snapshot, baseline, exceptions))


@settings(max_examples=30, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(organisations())
def test_judging_twice_says_the_same(made: tuple[Org, Random]) -> None:
    snapshot, baseline, exceptions = read(made)
    checker = Checker(snapshot, baseline, exceptions)
    for rule, service in pairs(baseline, snapshot, Narrowing().keeps, set()):
        if rule.subject == "people":
            first, second = checker.judge(rule, service), checker.judge(rule, service)
            assert first.verdict.tolist() == second.verdict.tolist()
            assert {name: mask.tolist() for name, mask in first.covers.items()} == {
                name: mask.tolist() for name, mask in second.covers.items()
            }
            assert first.notes == second.notes
