"""A check in parts: people by ranges of their order, each range judged apart by whoever has it, and the sums that make it whole again."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise
from typing import Any

from ..organisation.snapshot import Snapshot
from .checker import Checker
from .found import Found
from .remedy import Mending
from .rules import AgreedException, Baseline
from .run import Narrowing, Run
from .scope import pairs


def ranges(size: int, count: int) -> list[tuple[int, int]]:
    """People from 0 to before `size` in so many ranges, all as long as can be, none empty (one where there is nobody)."""
    cuts = sorted({size * number // count for number in range(count + 1)})
    return list(pairwise(cuts)) if len(cuts) > 1 else [(0, size)]


class Part:
    """Some of the people of a snapshot, with the rules about them: judged once, then asked what edits would do to them."""

    def __init__(
        self,
        mine: Snapshot,
        baseline: Baseline,
        exceptions: Sequence[AgreedException],
        narrowing: Narrowing,
        first: int,
    ) -> None:
        """`mine` and `narrowing` speak of the people of the part alone, the first of whom is the number `first` of all."""
        self._checker, self._narrowing, self._first = Checker(mine, baseline, exceptions), narrowing, first
        every = pairs(baseline, mine, narrowing.keeps, set())
        self._pairs = [pair for pair in every if pair[0].subject == "people" and narrowing.needs(pair[0], exceptions)]
        self._judged: tuple[Found, Mending] | None = None

    def judge(self, progress: Callable[[int, int], None] | None = None) -> Found:
        """What was found of these people. If `progress` raises, nothing is: the next call begins anew."""
        return self._once(progress)[0]

    def ask(self, method: str, asked: Any) -> Any:
        """What Mending says to a question by one of its methods."""
        return getattr(self._once(None)[1], method)(asked)

    def _once(self, progress: Callable[[int, int], None] | None) -> tuple[Found, Mending]:
        if self._judged is None:
            run = Run(self._checker, self._narrowing, self._first)  # counts as it goes
            self._judged = run.judge(self._pairs, progress), run.mending()
        return self._judged
