"""The course of drifts, reckoned from runs, against asking of each check and each interval."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.compared import many
from tests.history_reference import open_at, since
from usher_gate.core.history.chain import finding_line, findings_digest, lines_digest
from usher_gate.core.history.intervals import STATES, Between, FindingGroup, Interval, IntervalKey, Present, began_at
from usher_gate.core.history.trend import course, runs_of
from usher_gate.core.organisation.columns import DAY

CHECKS = 7
KEYS = [IntervalKey(rule, "tidecall", "person", f"P{number}") for rule in ("R-1", "R-2") for number in range(3)]


# Drifting more often than not; "" for a subject that is judged and does not drift, or is not there.
VERDICTS = st.sampled_from(("drifts", "drifts", "drifts", "", "loose", "unknown", "settling", "not-judged", "excepted"))


@st.composite
def intervals(draw: st.DrawFn) -> list[Interval]:
    found = []
    for key in KEYS:
        verdicts = [*draw(st.lists(VERDICTS, min_size=CHECKS, max_size=CHECKS)), "the end"]
        first = 1
        for number in range(2, CHECKS + 2):
            before, here = verdicts[number - 2], verdicts[number - 1]
            if here == before:
                continue
            if before:  # someone who has left has no verdict at the next check
                left = not here and draw(st.booleans())
                found.append(Interval(key, before, first, None if here == "the end" else number - 1, left))
            first = number
    return found


RULES = st.fixed_dictionaries(
    {number: st.frozensets(st.sampled_from(("R-1", "R-2"))) for number in range(1, CHECKS + 1)}
)
HOURS = st.lists(st.integers(0, 400), min_size=CHECKS, max_size=CHECKS)


@settings(max_examples=many(300), deadline=None)
@given(intervals(), RULES, HOURS)
def test_each_leg_is_what_asking_every_spell_gives(
    found: list[Interval], rules: dict[int, frozenset[str]], hours: list[int]
) -> None:
    taken = {number: sum(hours[:number]) * DAY // 24 for number in range(1, CHECKS + 1)}
    data_points = course(runs_of(found), taken, rules)
    assert len(data_points) == CHECKS
    for number, data_point in enumerate(data_points, 1):
        there = [open_at([interval for interval in found if interval.key == key], number) for key in KEYS]
        ages = sorted((taken[number] - taken[one[0]]) // DAY for one in there if one is not None and one[1] == "drifts")
        assert data_point.drifts == len(ages)
        middle = (ages[(len(ages) - 1) // 2] + ages[len(ages) // 2]) // 2 if ages else None
        assert (data_point.median_age, data_point.oldest_age) == (middle, ages[-1] if ages else None)
        if number == 1:
            assert data_point.changed is None
            continue
        plain = Counter(one.what for one in since(found, number - 1, number, rules[number - 1], rules[number]))
        assert data_point.changed is not None
        assert {name: many for name, many in data_point.changed.items() if many} == dict(plain)


@settings(max_examples=many(300), deadline=None)
@given(intervals(), RULES, st.integers(1, CHECKS - 1), st.integers(1, CHECKS))
def test_what_became_of_each_drift_is_what_asking_every_spell_gives(
    found: list[Interval], rules: dict[int, frozenset[str]], then: int, more: int
) -> None:
    now = min(then + more, CHECKS)

    def opened(check: int) -> dict[FindingGroup, dict[str, int]]:
        made: dict[FindingGroup, dict[str, int]] = {}
        for key in KEYS:
            mine = sorted((interval for interval in found if interval.key == key), key=lambda interval: interval.first)
            began = began_at(mine, check)
            shown = open_at(mine, check)
            assert began == (None if shown is None else shown[0])
            if shown is not None:
                made.setdefault(FindingGroup(*key[:3], STATES[shown[1]]), {})[key.id] = shown[0]
        return made

    def finding_groups(some: list[Interval]) -> dict[FindingGroup, set[str]]:
        made: dict[FindingGroup, set[str]] = {}
        for interval in some:
            made.setdefault(FindingGroup(*interval.key[:3], "drifts"), set()).add(interval.key.id)
        return made

    ended = [interval for interval in found if interval.last is not None]
    between = Between(
        opened(then),
        opened(now),
        finding_groups(
            [each for each in ended if each.verdict == "drifts" and each.last is not None and each.last < then]
        ),
        finding_groups(
            [
                each
                for each in ended
                if each.left and each.verdict in STATES and each.last is not None and then <= each.last < now
            ]
        ),
        rules[then],
        rules[now],
    )
    plain = list(since(found, then, now, rules[then], rules[now]))
    assert [(one.key, one.what, one.first) for one in between.changed()] == [
        (one.key, one.what, one.first) for one in plain
    ]
    assert {what: many for what, many in between.counts().items() if many} == Counter(one.what for one in plain)


def test_without_any_spell_nothing_drifts_and_nothing_is_old() -> None:
    (data_point,) = course([], {1: 0}, {1: frozenset()})
    assert (data_point.drifts, data_point.changed, data_point.median_age, data_point.oldest_age) == (
        0,
        None,
        None,
        None,
    )


ODD = st.text("aP1\\\t\n-", min_size=1, max_size=4)


@settings(max_examples=many(200), deadline=None)
@given(st.dictionaries(st.tuples(ODD, ODD, ODD), st.sampled_from(("drifts", "loose", "unknown")), max_size=12))
def test_the_digest_of_findings_is_that_of_their_lines_in_order(verdicts: dict[tuple[str, str, str], str]) -> None:
    """The quick way by groups of findings against line by line, with ids that contain a tab, a line's end or a
    backslash.
    """
    finding_groups: dict[FindingGroup, list[str]] = {}
    lines = []
    for (rule, service, name), verdict in verdicts.items():
        finding_groups.setdefault(FindingGroup(rule, service, "person", verdict), []).append(name)
        lines.append((IntervalKey(rule, service, "person", name), verdict))
    assert findings_digest(finding_groups) == lines_digest(map(finding_line, sorted(lines)))


def test_two_findings_that_differ_never_have_one_line() -> None:
    lines = [
        finding_line((IntervalKey("R", "", "person", name), "drifts")) for name in ("a\tb", "a\\tb", "a\nb", "a\\nb")
    ]
    assert len(set(lines)) == 4 and all(line.count(b"\n") == 1 and line.count(b"\t") == 4 for line in lines)


@pytest.mark.parametrize(("rule", "service", "type_", "name", "changes", "expected"), [
    ("R1", "s1", "person", "P1", {}, False), ("R1", "s1", "person", "P9", {}, False),
    ("R1", "s1", "person", "P9", {"people_whole": False}, True),
    ("R1", "s1", "person", "P1", {"people_whole": False}, False),
    ("R1", "", "person", "P1", {"services": None}, False), ("R1", "s1", "person", "P1", {"services": None}, True),
    ("R1", "s9", "person", "P1", {}, True), ("R9", "s9", "person", "P1", {}, False),
    ("R1", "", "partner", "a.example", {}, False), ("R1", "", "partner", "a.example", {"partners_known": False}, True),
    ("R9", "", "partner", "a.example", {"partners_known": False}, False),
    ("R1", "s1", "meeting", "m1", {"partners_known": False}, False),
    ("R1", "s1", "meeting", "m9", {"meetings": None}, True),
    ("R1", "", "organisation", "o", {"meetings": None}, False),
])  # fmt: skip
def test_what_cannot_be_judged_for_want_of_a_table_or_a_service(
    rule: str, service: str, type_: str, name: str, changes: dict[str, Any], expected: bool
) -> None:
    usual = Present(frozenset({"P1"}), frozenset({"m1"}), frozenset({"s1"}), rules=frozenset({"R1"}))
    assert replace(usual, **changes).cannot_judge(IntervalKey(rule, service, type_, name)) == expected
