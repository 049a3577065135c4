"""In which order the edits of a plan are made: one in which no step makes any verdict worse, the widest relief first.

Source: changes, section 3 ("Output"); reading 37; answers, B 17.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..settings.edited import Spot
from ..verdicts.codes import MEETS, VerdictCodes
from ..verdicts.trial import Trial
from .deadline import NEVER_PASSES, Deadline
from .judging import Judging, Weighed
from .terms import text_of

SAFE, NO_ORDER, NOT_FOUND = "safe", "none", "not-found"
ORDERS = (SAFE, NO_ORDER, NOT_FOUND)  # a harmless order; that there is none is proven; none was found
_MOST_EXACT = 14  # edits of one component for which every order is looked at
_MOST_STATES = 2_000  # sets of edits made that are looked at where there are more
_BYTES_KEPT, _LEAST_KEPT = 64 << 20, 4  # of verdicts


def in_order(judging: Judging, plan: Weighed, deadline: Deadline = NEVER_PASSES) -> tuple[list[Spot], str]:
    """The places of the edits in order, and one of ORDERS."""
    waiting = sorted(
        plan.plan, key=lambda spot: (-judging.reach({spot: plan.plan[spot]}), text_of(spot, plan.plan[spot]))
    )
    search = _Search(judging, plan, waiting, deadline)
    found = search.order()
    if found is not None:
        return found, SAFE
    return waiting, NO_ORDER if search.whole else NOT_FOUND


class _Search:
    """Looks for a harmless order, edit by edit; of each set of edits made it is asked once whether the rest can follow."""

    def __init__(self, judging: Judging, plan: Weighed, spots: Sequence[Spot], deadline: Deadline) -> None:
        self._judging, self._plan, self._spots, self._deadline = judging, plan, spots, deadline
        self._said: dict[frozenset[Spot], list[VerdictCodes]] = {}  # of the sets that were asked of last
        self._kept = max(_LEAST_KEPT, _BYTES_KEPT // max(1, judging.size * len(judging.rules)))
        self._states = 0
        self._dead: set[frozenset[Spot]] = set()
        self._most = None if len(spots) <= _MOST_EXACT else _MOST_STATES
        self.whole = True  # whether nothing was left out

    def order(self) -> list[Spot] | None:
        """The edits in a harmless order; None where none was found."""
        done: list[Spot] = []
        tried: list[int] = [0]  # for each edit made which of all edits is tried next after it
        while len(done) < len(self._spots):
            made = frozenset(done)
            step = None
            while made not in self._dead and tried[-1] < len(self._spots):
                spot = self._spots[tried[-1]]
                tried[-1] += 1
                if spot in made or made | {spot} in self._dead:
                    continue
                if self._deadline.has_passed or (self._most is not None and self._states > self._most):
                    self.whole = False
                    return None
                if self._is_harmless(made, made | {spot}):
                    step = spot
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

    def _is_harmless(self, before: frozenset[Spot], after: frozenset[Spot]) -> bool:
        pairs = zip(self._told(before), self._told(after), strict=True)
        return not any(np.any(np.minimum(then, MEETS) < np.minimum(was, MEETS)) for was, then in pairs)

    def _told(self, made: frozenset[Spot]) -> list[VerdictCodes]:
        """What every rule says once some edits are made."""
        told = self._said.pop(made, None)
        if told is None:
            self._states += 1
            trial = Trial(self._judging.base, {spot: self._plan.plan[spot] for spot in made})
            told = [self._judging.said(rule, trial).would_be for rule in self._judging.rules]
        while len(self._said) >= self._kept:
            del self._said[next(iter(self._said))]
        self._said[made] = told
        return told
