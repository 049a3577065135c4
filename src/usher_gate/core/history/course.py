"""The course of what drifts, check by check: how much there was, what was new, back and gone, and how old it was.

Reckoned from runs: spells of one rule that began and ended together, however many they are. Source: history, section 2; readings 42.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from ..organisation.columns import DAY
from ..words.record import record
from .spells import BACK, GONE, LEFT, NEW, NEW_RULE, NO_RULE, STILL, Between, Spell


class Run(NamedTuple):
    """Spells of drift that began and ended together: their rule, the first check and the last (None: they last), whether whom they were
    about has left, whether each had drifted in an earlier spell, and how many they are."""

    rule: str
    first: int
    last: int | None
    left: bool
    again: bool
    many: int


@record
class Leg:
    """What drifts at one check: how much; what became of each drift since the check before (None for the first); the median and the
    greatest age in whole days (None where nothing drifts)."""

    drifts: int
    changed: Mapping[str, int] | None
    median_age: int | None
    oldest_age: int | None


def runs_of(spells: Iterable[Spell]) -> list[Run]:
    """Spells of drift, those of one subject in the order of time, as runs."""
    seen: set[object] = set()
    many: Counter[tuple[str, int, int | None, bool, bool]] = Counter()
    for spell in spells:
        many[spell.key.rule, spell.first, spell.last, spell.left, spell.key in seen] += 1
        seen.add(spell.key)
    return [Run(*run, number) for run, number in many.items()]


def course(runs: Sequence[Run], taken: Mapping[int, int], rules: Mapping[int, frozenset[str]]) -> list[Leg]:
    """A leg for each check, in the order of their numbers; `taken` gives each check's time (µs), `rules` its baseline's rules."""
    numbers = sorted(taken)
    size = len(numbers)
    ends = [numbers[-1] if run.last is None else run.last for run in runs] if numbers else []
    first = np.searchsorted(numbers, [run.first for run in runs])
    last = np.searchsorted(numbers, ends, side="right") - 1
    many = np.array([run.many for run in runs], np.int64)
    inside = (first < size) & (last >= first)
    # standing[f, c]: how many that began at check f still drift at check c
    ended = np.zeros((size, size), np.int64)
    np.add.at(ended, (first[inside], last[inside]), many[inside])
    standing = np.triu(ended[:, ::-1].cumsum(axis=1)[:, ::-1])
    changed: list[Counter[str]] = [Counter() for _ in numbers]
    for run, began, end in zip(runs, first.tolist(), last.tolist(), strict=True):
        if 0 < began < size:
            fresh = NEW_RULE if run.rule not in rules.get(numbers[began - 1], ()) else BACK if run.again else NEW
            changed[began][fresh] += run.many
        if run.last is not None and end + 1 < size:
            gone = run.rule not in rules.get(numbers[end + 1], ())
            changed[end + 1][LEFT if run.left else NO_RULE if gone else GONE] += run.many
    legs = []
    for place, number in enumerate(numbers):
        here = standing[: place + 1, place]
        ages = np.array([int((taken[number] - taken[each]) // DAY) for each in numbers[: place + 1]], np.int64)
        if place:
            changed[place][STILL] = int(here.sum()) - int(here[place])
        legs.append(Leg(int(here.sum()), changed[place] if place else None, *_median_and_oldest(ages, here)))
    return legs


def unkept_leg(between: Between, taken: Mapping[int, int]) -> Leg:
    """The leg of the later of two checks; `taken` gives the times (µs) of the checks in which its drifts began, and its own, the last."""
    began: Counter[int] = Counter()
    for some in between.after.values():
        began.update(some.values())
    now, numbers = max(taken), sorted(began)
    ages = np.array([int((taken[now] - taken[each]) // DAY) for each in numbers], np.int64)
    many = np.array([began[each] for each in numbers], np.int64)
    return Leg(began.total(), between.counts(), *_median_and_oldest(ages, many))


def _median_and_oldest(ages: np.ndarray, many: np.ndarray) -> tuple[int | None, int | None]:
    """Of ages that fall from the first on, and how many have each: the one in the middle (of two the greater), and the greatest."""
    whole = int(many.sum())
    if not whole:
        return None, None
    upward = many[::-1].cumsum()  # from the youngest on
    middle = int(np.searchsorted(upward, whole // 2, side="right"))
    return int(ages[::-1][middle]), int(ages[np.flatnonzero(many)[0]])
