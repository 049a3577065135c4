"""A check in parts.

People by ranges of their order, each range judged by itself, and the sums that make it whole again.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Any

from ..organisation.snapshot import Snapshot
from .checker import Checker
from .found import PartialResult
from .remedy import EditEffects
from .rules import AgreedException, Baseline
from .run import Narrowing, Run
from .scope import pairs


def ranges(size: int, count: int) -> list[tuple[int, int]]:
    """Divide people from 0 to before `size` into so many ranges of nearly equal length (one without people)."""
    cuts = sorted({size * number // count for number in range(count + 1)})
    return list(pairwise(cuts)) if len(cuts) > 1 else [(0, size)]


class PeoplePart:
    """Some of the people of a snapshot, with the rules about them.

    Judged once, then asked what edits would do to them.
    """

    def __init__(
        self,
        mine: Snapshot,
        baseline: Baseline,
        exceptions: Sequence[AgreedException],
        narrowing: Narrowing,
        first: int,
    ) -> None:
        """`mine` and `narrowing` are about the people of the part alone.

        Its first person has the number `first` among all.
        """
        self._checker, self._narrowing, self._first = Checker(mine, baseline, exceptions), narrowing, first
        every = pairs(baseline, mine, narrowing.keeps, set())
        self._pairs = [pair for pair in every if pair[0].subject == "people" and narrowing.needs(pair[0], exceptions)]
        self._judged: tuple[PartialResult, EditEffects] | None = None

    def judge(self, progress: Callable[[int, int], None] | None = None) -> PartialResult:
        """Return what was found of these people. If `progress` raises, nothing is: the next call begins anew."""
        return self._once(progress)[0]

    def ask(self, method: str, asked: Any) -> Any:
        """Return what Mending says to a question by one of its methods."""
        return getattr(self._once(None)[1], method)(asked)

    def _once(self, progress: Callable[[int, int], None] | None) -> tuple[PartialResult, EditEffects]:
        if self._judged is None:
            run = Run(self._checker, self._narrowing, self._first)  # counts as it goes
            self._judged = run.judge(self._pairs, progress), run.mending()
        return self._judged
