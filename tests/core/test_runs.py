"""A check may be judged in ranges of people and put together: the whole is the same byte for byte.

Judging changes nothing.
"""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import partial
from itertools import pairwise
from pathlib import Path
from random import Random
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.organisations import organisations, write_org
from tests.reference import Org
from usher_gate.core.organisation.part import part_of
from usher_gate.core.organisation.snapshot import Snapshot
from usher_gate.core.verdicts.check import Workers, check
from usher_gate.core.verdicts.checker import Checker
from usher_gate.core.verdicts.found import PartialResult
from usher_gate.core.verdicts.parts import PeoplePart
from usher_gate.core.verdicts.result import CheckResult
from usher_gate.core.verdicts.rules import AgreedException, Baseline
from usher_gate.core.verdicts.run import Narrowing, Pair
from usher_gate.core.verdicts.scope import pairs
from usher_gate.files.snapshot.folder import read_part, read_snapshot
from usher_gate.files.written.baseline import read_baseline
from usher_gate.files.written.exceptions import read_exceptions
from usher_gate.outputs.forms import writer
from usher_gate.outputs.render_options import RenderOptions

Inputs = tuple[Snapshot, Baseline, tuple[AgreedException, ...]]


@contextmanager
def folder_of(made: tuple[Org, Random]) -> Iterator[Path]:
    with tempfile.TemporaryDirectory() as name:
        write_org(made[0], Path(name), made[1], ("csv",))
        yield Path(name)


def read(folder: Path) -> Inputs:
    snapshot = read_snapshot(folder / "snapshot").snapshot
    baseline, _ = read_baseline(folder / "baseline.yaml", snapshot.catalogue, snapshot)
    exceptions, _ = read_exceptions(folder / "exceptions.yaml", baseline, snapshot)
    return snapshot, baseline, exceptions


def written(result: CheckResult) -> str:
    stream = io.StringIO()
    writer("check", "json")(result, stream, RenderOptions())
    writer("check", "csv")(result, stream, RenderOptions())
    return stream.getvalue()


class GivenUp(Exception):
    pass


def give_up(done: int, whole: int) -> None:
    if done * 2 >= whole:
        raise GivenUp


class InParts(Workers):
    """Ranges of people, each judged apart, one after another."""

    def __init__(
        self, checker: Checker, narrowing: Narrowing, cuts: list[int], people: Callable[[int, int], Snapshot]
    ) -> None:
        self._parts = [
            PeoplePart(people(first, last), checker.baseline, checker.exceptions, narrowing.part(first, last), first)
            for first, last in pairwise(cuts)
        ]

    def judge(self, _: Sequence[Pair], __: Callable[[int, int], None] | None) -> list[PartialResult]:
        for part in self._parts[::2]:  # given up when half of it is done, as by an engine that took someone for dead
            with suppress(GivenUp):
                part.judge(give_up)
        return [part.judge() for part in self._parts]

    def somewhere(self, method: str, asked: Any) -> list[Any]:
        return [part.ask(method, asked) for part in self._parts]


@settings(max_examples=many(100), suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(organisations(), st.randoms(use_true_random=False), st.booleans())
def test_ranges_of_people_make_the_whole(made: tuple[Org, Random], rnd: Random, narrowed: bool) -> None:
    """Whether a range is cut out of the whole, or read alone."""
    with folder_of(made) as folder:
        snapshot, baseline, exceptions = read(folder)
        size = len(snapshot.people)
        cuts = sorted({0, size, *(rnd.randrange(size + 1) for _ in range(rnd.randrange(1, 5)))})
        cuts = cuts if size else [0, 0]
        narrowing = narrowed_by(rnd, snapshot) if narrowed else Narrowing()
        whole = written(check(snapshot, baseline, exceptions, narrowing))
        for people in (partial(part_of, snapshot), partial(read_part, folder / "snapshot")):
            parts = partial(InParts, cuts=cuts, people=people)
            assert written(check(snapshot, baseline, exceptions, narrowing, None, parts)) == whole


def narrowed_by(rnd: Random, snapshot: Snapshot) -> Narrowing:
    size = len(snapshot.people)
    return Narrowing(
        services=frozenset(service.id for service in snapshot.services or () if rnd.random() < 0.7) or None,
        severities=frozenset({"high", "medium"}) if rnd.random() < 0.3 else None,
        verdicts=frozenset({"drifts", "unknown"}) if rnd.random() < 0.3 else None,
        people=np.array([rnd.random() < 0.6 for _ in range(size)], bool) if rnd.random() < 0.6 else None,
    )


@settings(max_examples=many(30), suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(organisations())
def test_judging_twice_says_the_same(made: tuple[Org, Random]) -> None:
    with folder_of(made) as folder:
        snapshot, baseline, exceptions = read(folder)
    checker = Checker(snapshot, baseline, exceptions)
    for rule, service in pairs(baseline, snapshot, Narrowing().keeps, set()):
        if rule.subject == "people":
            first, second = checker.judge(rule, service), checker.judge(rule, service)
            assert first.verdict.tolist() == second.verdict.tolist()
            assert {name: mask.tolist() for name, mask in first.covers.items()} == {
                name: mask.tolist() for name, mask in second.covers.items()
            }
            assert first.notes == second.notes


def by_hand(folder: Path, people: str, settings_: str, rules: str, services: str = "") -> Inputs:
    (folder / "snapshot").mkdir()
    head = "usher-gate: {}/1\n"
    for name, text in {
        "snapshot/organisation.yaml": head.format("snapshot") + "name: Ten\ntaken_at: 2026-11-20T06:00:00Z\n",
        "snapshot/services.yaml": head.format("services")
        + (services or "services:\n  - {id: s, supports: [door.waiting-room]}\n"),
        "snapshot/people.csv": people,
        "snapshot/settings.csv": "service,control,scope,value\n" + settings_,
        "baseline.yaml": head.format("baseline") + 'name: B\nversion: "1"\nrules:\n' + rules,
        "exceptions.yaml": head.format("exceptions") + "exceptions: []\n",
    }.items():
        (folder / name).write_text(text)
    return read(folder)


def in_each_way(folder: Path, inputs: Inputs) -> tuple[CheckResult, list[CheckResult]]:
    """At once; and each person a part of their own, cut out of the whole and read alone."""
    cuts = list(range(len(inputs[0].people) + 1))
    ways = (partial(part_of, inputs[0]), partial(read_part, folder / "snapshot"))
    return check(*inputs), [check(*inputs, None, None, partial(InParts, cuts=cuts, people=people)) for people in ways]


def test_accounts_of_one_owner_in_different_parts_are_counted_together(tmp_path: Path) -> None:
    inputs = by_hand(
        tmp_path,
        "id,login,kind,attr.owner\n1,a@x.example,member,ann\n2,b@x.example,member,ann\n3,c@x.example,member,cy\n",
        "",
        "  - {id: R, title: Alone, expect: {person: fallback-accounts, is: 0}}\n",
    )
    whole, parts = in_each_way(tmp_path, inputs)
    assert whole.drifting_people == 2
    assert [written(each) for each in parts] == [written(whole)] * 2


def one_root_frees_both(folder: Path, inputs: Inputs, value: str) -> None:
    whole, parts = in_each_way(folder, inputs)
    (root,) = whole.roots
    assert root.remedy is not None
    assert (root.remedy.mended_value, root.remedy.freed) == (value, 2)
    assert [written(each) for each in parts] == [written(whole)] * 2


def test_what_a_root_has_to_satisfy_is_asked_by_the_people_of_every_part(tmp_path: Path) -> None:
    inputs = by_hand(
        tmp_path,
        "id,login,kind,unit\n1,a@x.example,member,/A\n2,b@x.example,member,/B\n",
        "s,door.waiting-room,organisation,members\n",
        "  - {id: R1, title: One, audience: {unit: /A}, expect: {control: door.waiting-room, one_of: [everyone, guests]}}\n"
        "  - {id: R2, title: Two, audience: {unit: /B}, expect: {control: door.waiting-room, one_of: [guests, partners]}}\n",
    )
    one_root_frees_both(tmp_path, inputs, "guests")


def test_a_value_has_to_shut_the_doors_of_every_part(tmp_path: Path) -> None:
    door = "expect: {door: {standing: %s, holding: link, way: browser, kind: scheduled}, no_weaker_than: waits}}\n"
    inputs = by_hand(
        tmp_path,
        "id,login,kind,unit\n1,a@x.example,member,/A\n2,b@x.example,member,/B\n",
        "s,door.waiting-room,organisation,everyone\n",
        f"  - {{id: R1, title: One, audience: {{unit: /A}}, {door % 'outsider'}"
        f"  - {{id: R2, title: Two, audience: {{unit: /B}}, {door % 'member'}",
        "services:\n  - {id: s, supports: [door.waiting-room], door: {kinds: [scheduled], ways: [browser]}}\n",
    )
    one_root_frees_both(tmp_path, inputs, "invitees")
