"""The fewest edits of one component.

One edit if one does, else step by step, else by the optimiser, with what is proved.

Spec: mending 4.2 and 4.4.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from .candidates import CandidateEdits
from .constraint_generation import ConstraintGeneration
from .deadline import Deadline, OutOfTime
from .greedy import greedy
from .judging import Judging, PlanScore
from .model import Model
from .objective import FIRST, Goal, Objective, TooManyPeople
from .single import best_single

_ROUNDS = 400
_NEAR = 1e-6
STOPPED = "stopped when the time was up"


@dataclass
class ComponentPlan:
    """The plan of a component.

    `gap` is by how many edits (or verdicts left, where some are) it may be more than the fewest; `greedy` how many
    edits the plan step by step has (None where it was not made); `proved_people` whether it is proved that no plan as
    short touches fewer people; `by` how it was found.
    """

    judging: Judging
    weighed: PlanScore
    gap: int
    greedy: int | None
    proved_people: bool
    by: str

    @property
    def proof(self) -> str:
        """Return how sure it is that there are no fewer."""
        return "proven fewest" if not self.gap else f"at most {self.gap} more than the fewest"


def solve(judging: Judging, deadline: Deadline, limit: int | None = None, compare: bool = False) -> ComponentPlan:
    """Return the best plan of a component that can be found in the time; of at most `limit` edits where that is given.

    With `compare` the plan step by step is made in any case.
    """
    offers = CandidateEdits(judging)
    nothing = judging.weigh({})
    if limit == 0:
        return ComponentPlan(
            judging=judging, weighed=nothing, gap=0, greedy=None, proved_people=True, by="nothing tried"
        )
    single, all_tried = best_single(judging, offers, deadline)
    if single is not None and all_tried and not compare:
        return ComponentPlan(
            judging=judging, weighed=single, gap=0, greedy=None, proved_people=True, by="everything tried"
        )
    stepped = greedy(judging, offers, deadline.part(1 / 3)) if limit is None else None
    many = len(stepped.plan) if stepped is not None else None
    if single is not None and all_tried:
        return ComponentPlan(
            judging=judging, weighed=single, gap=0, greedy=many, proved_people=True, by="everything tried"
        )
    best = min((each for each in (nothing, stepped, single) if each is not None), key=offers.preference_key)
    try:
        model = Model(judging, offers, deadline)
    except OutOfTime:
        return ComponentPlan(
            judging=judging,
            weighed=best,
            gap=max(best.left or len(best.plan), 1),
            greedy=many,
            proved_people=False,
            by=STOPPED,
        )
    return _Search(model, best, deadline, limit).found(many)


class _Search:
    """Solves, judges the plan again, learns from what it broke, and so on until nothing is broken.

    One goal after the other.
    """

    def __init__(self, model: Model, best: PlanScore, deadline: Deadline, limit: int | None) -> None:
        self._model, self._best, self._deadline, self._limit = model, best, deadline, limit
        self._objective, self._generation = Objective(model), ConstraintGeneration(model)
        self._bound = 0.0
        self._reached: list[tuple[Goal, int]] = []

    def found(self, many: int | None) -> ComponentPlan:
        """Return the best plan, and what is proved of it. `many` are the edits of the plan step by step."""
        model = self._model
        if not self._reach(self._objective.first):
            left, edits = divmod(max(math.ceil(self._bound - _NEAR), 0), FIRST)
            gap = self._best.left - left or len(self._best.plan) - edits
            by = STOPPED if self._deadline.has_passed else "optimiser"
            return ComponentPlan(
                judging=model.judging, weighed=self._best, gap=max(gap, 1), greedy=many, proved_people=False, by=by
            )
        proved = True
        for goal in self._objective.others:
            try:
                reached = self._reach(goal)
            except (TooManyPeople, OutOfTime):
                reached = False
            if not reached:
                proved = len(self._reached) > 2  # who is touched; the texts of the plan do not matter for the proof
                break
        return ComponentPlan(
            judging=model.judging, weighed=self._best, gap=0, greedy=many, proved_people=proved, by="optimiser"
        )

    def _reach(self, goal: Goal) -> bool:
        """Makes a cost least, none of the earlier ones growing; says whether that is proved in the time."""
        try:
            return self._reach_in_time(goal)
        except OutOfTime:
            return False

    def _reach_in_time(self, goal: Goal) -> bool:
        """Solve and learn in turn until the best plan is proven optimal for one goal; False if that could not be
        proven.
        """
        self._bound = 0.0
        if goal.of(self._best) == 0 and self._as_good(self._best, goal, 0.0):
            self._reached.append((goal, 0))
            return True
        for _ in range(_ROUNDS):
            learned = True
            self._deadline.check()
            rows = [(earlier.cost().times(-1), -least) for earlier, least in self._reached]
            if self._limit is not None:
                rows.append((self._objective.edits().times(-1), -self._limit))
            found = self._model.program.solve(goal.cost(), self._deadline.left, rows)
            self._bound = max(self._bound, found.bound)
            if found.values is None or not found.best:
                return False
            if not self._as_good(self._best, goal, found.cost):
                weighed = self._model.judging.weigh(self._model.variables.plan(found.values))
                self._keep(weighed)
                learned = self._generation.learn(weighed, found.values)
            if self._as_good(self._best, goal, found.cost):
                self._reached.append((goal, goal.of(self._best)))
                return True
            if not learned:
                return False
        return False

    def _as_good(self, plan: PlanScore, goal: Goal, cost: float) -> bool:
        """Return whether a plan costs no more than what none is below, its earlier costs being the least already."""
        if plan.against or (self._limit is not None and len(plan.plan) > self._limit):
            return False
        if any(earlier.of(plan) > least for earlier, least in self._reached):
            return False
        return goal.of(plan) <= cost + _NEAR

    def _keep(self, weighed: PlanScore) -> None:
        """Keeps the better of two plans that have nothing against them."""
        if weighed.against or (self._limit is not None and len(weighed.plan) > self._limit):
            return
        preference = self._model.offers.preference_key
        if preference(weighed) < preference(self._best):
            self._best = weighed
