"""In which order the edits of a plan are made: one in which no step makes any verdict worse, the widest relief first.

Source: changes, section 3 ("Output"); reading 37.
"""

from __future__ import annotations

import numpy as np

from ..settings.edited import Spot
from ..verdicts.codes import MEETS
from .deadline import NEVER_PASSES, Deadline
from .judging import Judging, Weighed
from .terms import text_of

_MOST = 60  # edits of one component that an order is sought for


def in_order(judging: Judging, plan: Weighed, deadline: Deadline = NEVER_PASSES) -> tuple[list[Spot], bool]:
    """The places of the edits in order, and whether no step is known to make any verdict worse; False too where the
    time was up."""
    waiting = sorted(
        plan.plan, key=lambda spot: (-judging.reach({spot: plan.plan[spot]}), text_of(spot, plan.plan[spot]))
    )
    if len(waiting) < 2:
        return waiting, True
    if len(waiting) > _MOST:
        return waiting, False
    done: list[Spot] = []
    stuck = False
    while waiting:
        if deadline.has_passed:
            return [*done, *waiting], False
        spot = next((each for each in waiting if _hurts_nobody(judging, plan, done, each)), None)
        stuck |= spot is None
        spot = waiting[0] if spot is None else spot
        waiting.remove(spot)
        done.append(spot)
    return done, not stuck


def _hurts_nobody(judging: Judging, plan: Weighed, done: list[Spot], spot: Spot) -> bool:
    before = judging.weigh({each: plan.plan[each] for each in done})
    after = judging.weigh({each: plan.plan[each] for each in (*done, spot)})
    assert before.trial is not None and after.trial is not None
    for rule in judging.rules:
        was, then = (judging.said(rule, trial).would_be for trial in (before.trial, after.trial))
        if np.any(np.minimum(then, MEETS) < np.minimum(was, MEETS)):
            return False
    return True
