"""The course of what drifts, check by check: how much there was, what was new, back and gone, and how old it was.

Computed from runs: intervals of one rule that are alike, however many they are. Spec: history 2.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from ..organisation.columns import DAY
from ..words.record import record
from .intervals import BACK, DRIFTING, GONE, LEFT, NEW, NEW_RULE, NO_RULE, STATES, STILL, Between, Interval, IntervalKey


class IntervalRun(NamedTuple):
    """Intervals of open findings that are alike.

    Their rule, what they are (a word of STATES), the first check and the last (None: they last), the check in which the
    finding began, whether the subject has left, whether it drifted before that, whether the finding ends with the
    interval, and how many they are.
    """

    rule: str
    state: str
    first: int
    last: int | None
    began: int
    left: bool
    again: bool
    ends: bool
    many: int


@record
class DataPoint:
    """Describes what drifts at one check: how much.

    What became of each finding since the check before (None for the first).

    The median and the greatest age in whole days (None where nothing drifts).
    """

    drifts: int
    changed: Mapping[str, int] | None
    median_age: int | None
    oldest_age: int | None


def runs_of(intervals: Iterable[Interval]) -> list[IntervalRun]:
    """Return the intervals of open findings, those of one subject in the order of time, as runs."""
    by_key: dict[IntervalKey, list[Interval]] = {}
    for interval in intervals:
        if interval.verdict in STATES:
            by_key.setdefault(interval.key, []).append(interval)
    many: Counter[tuple[str, str, int, int | None, int, bool, bool, bool]] = Counter()
    for key, mine in by_key.items():
        began, end, earlier = None, None, False
        for place, interval in enumerate(mine):
            if end is None or interval.first != end + 1:
                earlier, began = earlier or began is not None, None
            if began is None and interval.verdict == DRIFTING:
                began = interval.first
            end = interval.last
            if began is not None:
                follows = (
                    place + 1 < len(mine) and interval.last is not None and mine[place + 1].first == interval.last + 1
                )
                state = STATES[interval.verdict]
                many[key.rule, state, interval.first, interval.last, began, interval.left, earlier, not follows] += 1
    return [IntervalRun(*run, number) for run, number in many.items()]


def course(
    runs: Sequence[IntervalRun], taken: Mapping[int, int], rules: Mapping[int, frozenset[str]]
) -> list[DataPoint]:
    """Return a leg for each check, in the order of their numbers.

    `taken` gives each check's time (µs), `rules` its baseline's rules.
    """
    numbers = sorted(taken)
    size = len(numbers)
    # standing[b, c]: how many that began at check b drift at check c; the difference of each from the check before is
    # added up first.
    steps = np.zeros((size, size + 1), np.int64)
    changed: list[Counter[str]] = [Counter() for _ in numbers]
    place_of = {number: place for place, number in enumerate(numbers)}
    for run in runs:
        first, began = place_of.get(run.first, size), place_of.get(run.began, size)
        end = size - 1 if run.last is None else place_of.get(run.last, -1)
        if first >= size or began >= size or end < first:
            continue
        if run.state == DRIFTING:
            steps[began, first] += run.many
            steps[began, end + 1] -= run.many
        else:
            for place in range(max(first, 1), end + 1):
                changed[place][run.state] += run.many
        if run.state == DRIFTING and run.first == run.began and first:
            seen = BACK if run.again else NEW
            is_new_rule = run.rule not in rules.get(numbers[first - 1], ())
            changed[first][NEW_RULE if is_new_rule else seen] += run.many
        if run.last is not None and run.ends and end + 1 < size:
            gone = NO_RULE if run.rule not in rules.get(numbers[end + 1], ()) else GONE
            changed[end + 1][LEFT if run.left else gone] += run.many
    standing = steps.cumsum(axis=1)[:, :size]
    data_points = []
    for place, number in enumerate(numbers):
        here = standing[: place + 1, place]
        ages = np.array([int((taken[number] - taken[each]) // DAY) for each in numbers[: place + 1]], np.int64)
        if place:
            changed[place][STILL] = int(here.sum()) - int(here[place])
        data_points.append(
            DataPoint(int(here.sum()), changed[place] if place else None, *_median_and_oldest(ages, here))
        )
    return data_points


def unkept_leg(between: Between, taken: Mapping[int, int]) -> DataPoint:
    """Return the leg of the later of two checks.

    `taken` gives the times (µs) of the checks in which its findings began, and its own, the last.
    """
    began: Counter[int] = Counter()
    for finding_group, some in between.after.items():
        if finding_group.verdict == DRIFTING:
            began.update(some.values())
    now, numbers = max(taken), sorted(began)
    ages = np.array([int((taken[now] - taken[each]) // DAY) for each in numbers], np.int64)
    many = np.array([began[each] for each in numbers], np.int64)
    return DataPoint(began.total(), between.counts(), *_median_and_oldest(ages, many))


def _median_and_oldest(ages: np.ndarray, many: np.ndarray) -> tuple[int | None, int | None]:
    """Return the median and the greatest of ages that fall from the first on, with how many have each.

    The median (of two in the middle their mean, rounded down), and the greatest.
    """
    whole = int(many.sum())
    if not whole:
        return None, None
    upward = many[::-1].cumsum()  # from the youngest on
    middle = np.searchsorted(upward, ((whole - 1) // 2, whole // 2), side="right")
    return int(ages[::-1][middle].sum()) // 2, int(ages[np.flatnonzero(many)[0]])
