"""In which order the edits of a plan are made: one in which no step makes any verdict worse, the widest relief first.

Spec: mending 4.6.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..settings.edited import SettingTarget
from ..verdicts.codes import MEETS, VerdictCodes
from ..verdicts.trial import Trial
from .constraints import text_of
from .deadline import NEVER_PASSES, Deadline
from .judging import Judging, PlanScore

SAFE, NO_ORDER, NOT_FOUND = "safe", "none", "not-found"
ORDERS = (SAFE, NO_ORDER, NOT_FOUND)  # a harmless order; that there is none is proven; none was found
_MOST_EXACT = 14  # edits of one component for which every order is looked at
_MOST_STATES = 2_000  # sets of edits made that are looked at where there are more
_BYTES_KEPT, _LEAST_KEPT = 64 << 20, 4  # of verdicts


def in_order(judging: Judging, plan: PlanScore, deadline: Deadline = NEVER_PASSES) -> tuple[list[SettingTarget], str]:
    """Return the places of the edits in order, and one of ORDERS."""
    waiting = sorted(
        plan.plan,
        key=lambda edit_target: (
            -judging.reach({edit_target: plan.plan[edit_target]}),
            text_of(edit_target, plan.plan[edit_target]),
        ),
    )
    search = _Search(judging, plan, waiting, deadline)
    found = search.order()
    if found is not None:
        return found, SAFE
    return waiting, NO_ORDER if search.whole else NOT_FOUND


class _Search:
    """Looks for a harmless order, edit by edit.

    Of each set of edits made it is asked once whether the rest can follow.
    """

    def __init__(
        self, judging: Judging, plan: PlanScore, edit_targets: Sequence[SettingTarget], deadline: Deadline
    ) -> None:
        self._judging, self._plan, self._spots, self._deadline = judging, plan, edit_targets, deadline
        self._said: dict[frozenset[SettingTarget], list[VerdictCodes]] = {}  # of the sets that were asked of last
        self._kept = max(_LEAST_KEPT, _BYTES_KEPT // max(1, judging.size * len(judging.rules)))
        self._states = 0
        self._dead: set[frozenset[SettingTarget]] = set()
        self._most = None if len(edit_targets) <= _MOST_EXACT else _MOST_STATES
        self.whole = True  # whether nothing was left out

    def order(self) -> list[SettingTarget] | None:
        """Return the edits in a harmless order; None where none was found."""
        done: list[SettingTarget] = []
        tried: list[int] = [0]  # for each edit made which of all edits is tried next after it
        while len(done) < len(self._spots):
            made = frozenset(done)
            step = None
            while made not in self._dead and tried[-1] < len(self._spots):
                edit_target = self._spots[tried[-1]]
                tried[-1] += 1
                if edit_target in made or made | {edit_target} in self._dead:
                    continue
                if self._deadline.has_passed or (self._most is not None and self._states > self._most):
                    self.whole = False
                    return None
                if self._is_harmless(made, made | {edit_target}):
                    step = edit_target
                    break
            if step is not None:
                done.append(step)
                tried.append(0)
                continue
            self._dead.add(made)
            if not done:
                return None
            done.pop()
            tried.pop()
        return done

    def _is_harmless(self, before: frozenset[SettingTarget], after: frozenset[SettingTarget]) -> bool:
        pairs = zip(self._verdicts_after(before), self._verdicts_after(after), strict=True)
        return not any(np.any(np.minimum(then, MEETS) < np.minimum(was, MEETS)) for was, then in pairs)

    def _verdicts_after(self, made: frozenset[SettingTarget]) -> list[VerdictCodes]:
        """Return what every rule says once some edits are made."""
        verdicts = self._said.pop(made, None)
        if verdicts is None:
            self._states += 1
            trial = Trial(self._judging.base, {edit_target: self._plan.plan[edit_target] for edit_target in made})
            verdicts = [self._judging.said(rule, trial).would_be for rule in self._judging.rules]
        while len(self._said) >= self._kept:
            del self._said[next(iter(self._said))]
        self._said[made] = verdicts
        return verdicts
