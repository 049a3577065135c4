"""The fewest edits of one component: one edit if one does, else step by step, else by the optimiser, with what is proved.

Source: changes, section 3 ("How sure"); readings 31 and 34.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from ..words.record import record
from .deadline import Deadline, OutOfTime
from .greedy import greedy
from .judging import Judging, Weighed
from .learning import Learning
from .offers import Offers
from .rows import Term, total
from .single import best_single
from .terms import last_of_all
from .touching import TooManyPeople, Touching

_ROUNDS = 400
_NEAR = 1e-6
_FIRST = 10_000  # so many edits are better than one verdict more that is left
STOPPED = "stopped when the time was up"


@dataclass
class Found:
    """The plan of a component. `gap` is by how many edits (or verdicts left, where some are) it may be more than the fewest; `greedy` how
    many edits the plan step by step has (None where it was not made); `proved_people` whether it is proved that no plan as short touches
    fewer people; `by` how it was found."""

    judging: Judging
    weighed: Weighed
    gap: int
    greedy: int | None
    proved_people: bool
    by: str

    @property
    def proof(self) -> str:
        """How sure it is that there are no fewer."""
        return "proven fewest" if not self.gap else f"at most {self.gap} more than the fewest"


def solve(judging: Judging, deadline: Deadline, limit: int | None = None, compare: bool = False) -> Found:
    """The best plan of a component that can be found in the time; of at most `limit` edits where that is given.

    With `compare` the plan step by step is made in any case.
    """
    offers = Offers(judging)
    nothing = judging.weigh({})
    if limit == 0:
        return Found(judging, nothing, 0, None, True, "nothing tried")
    single, all_tried = best_single(judging, offers, deadline)
    if single is not None and all_tried and not compare:
        return Found(judging, single, 0, None, True, "everything tried")
    stepped = greedy(judging, offers, deadline.part(1 / 3)) if limit is None else None
    many = len(stepped.plan) if stepped is not None else None
    if single is not None and all_tried:
        return Found(judging, single, 0, many, True, "everything tried")
    best = min((each for each in (nothing, stepped, single) if each is not None), key=offers.preference)
    try:
        model = Learning(judging, offers, deadline)
    except OutOfTime:
        return Found(judging, best, max(best.left or len(best.plan), 1), many, False, STOPPED)
    return _Search(model, best, deadline, limit).found(many)


@record
class _Goal:
    """A cost to be made least: as a term of the programme, and as it is counted of a plan."""

    cost: Callable[[], Term]
    of: Callable[[Weighed], int]


class _Search:
    """Solves, judges the plan again, learns from what it broke, and so on until nothing is broken; one goal after the other."""

    def __init__(self, model: Learning, best: Weighed, deadline: Deadline, limit: int | None) -> None:
        self._model, self._best, self._deadline, self._limit = model, best, deadline, limit
        self._bound = 0.0
        self._reached: list[tuple[_Goal, int]] = []

    def found(self, many: int | None) -> Found:
        """The best plan, and what is proved of it. `many` are the edits of the plan step by step."""
        model, touching = self._model, Touching(self._model)
        first = _Goal(
            lambda: total([model.left().times(_FIRST), model.edits()]),
            lambda weighed: _FIRST * weighed.left + len(weighed.plan),
        )
        if not self._reach(first):
            left, edits = divmod(max(math.ceil(self._bound - _NEAR), 0), _FIRST)
            gap = self._best.left - left or len(self._best.plan) - edits
            by = STOPPED if self._deadline.has_passed else "optimiser"
            return Found(model.judging, self._best, max(gap, 1), many, False, by)
        proved = True
        for goal in (
            _Goal(touching.without, lambda weighed: weighed.without),
            _Goal(touching.every, lambda weighed: weighed.touched),
            _Goal(model.stricter, lambda weighed: model.offers.strictness_of(weighed.plan)),
            _Goal(model.reach, lambda weighed: weighed.reach),
            _Goal(model.sets, lambda weighed: last_of_all(weighed.plan)[0]),
            _Goal(model.pins, lambda weighed: last_of_all(weighed.plan)[1]),
            _Goal(model.texts, lambda weighed: model.text_places(weighed.plan)),
        ):
            try:
                reached = self._reach(goal)
            except (TooManyPeople, OutOfTime):
                reached = False
            if not reached:
                proved = len(self._reached) > 2  # who is touched; how the plan reads is not told
                break
        return Found(model.judging, self._best, 0, many, proved, "optimiser")

    def _reach(self, goal: _Goal) -> bool:
        """Makes a cost least, none of the earlier ones growing; says whether that is proved in the time."""
        try:
            return self._reach_in_time(goal)
        except OutOfTime:
            return False

    def _reach_in_time(self, goal: _Goal) -> bool:
        self._bound = 0.0
        if goal.of(self._best) == 0 and self._as_good(self._best, goal, 0.0):
            self._reached.append((goal, 0))
            return True
        for _ in range(_ROUNDS):
            learned = True
            self._deadline.check()
            rows = [(earlier.cost().times(-1), -least) for earlier, least in self._reached]
            if self._limit is not None:
                rows.append((self._model.edits().times(-1), -self._limit))
            found = self._model.programme.solve(goal.cost(), self._deadline.left, rows)
            self._bound = max(self._bound, found.bound)
            if found.values is None or not found.best:
                return False
            if not self._as_good(self._best, goal, found.cost):
                weighed = self._model.judging.weigh(self._model.plan(found.values))
                self._keep(weighed)
                learned = self._model.learn(weighed, found.values)
            if self._as_good(self._best, goal, found.cost):
                self._reached.append((goal, goal.of(self._best)))
                return True
            if not learned:
                return False
        return False

    def _as_good(self, plan: Weighed, goal: _Goal, cost: float) -> bool:
        """Whether a plan costs no more than what none is below, its earlier costs being the least already."""
        if plan.against or (self._limit is not None and len(plan.plan) > self._limit):
            return False
        if any(earlier.of(plan) > least for earlier, least in self._reached):
            return False
        return goal.of(plan) <= cost + _NEAR

    def _keep(self, weighed: Weighed) -> None:
        """Keeps the better of two plans that have nothing against them."""
        if weighed.against or (self._limit is not None and len(weighed.plan) > self._limit):
            return
        preference = self._model.offers.preference
        if preference(weighed) < preference(self._best):
            self._best = weighed
