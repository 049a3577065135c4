"""Asking many doors at once whether they give visitors what they should.

Spec: doors 4.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints, distinct
from ..words.record import record
from .gates import IN_LINK, Gate, Panel, Results, VisitOutcome, meet
from .roots import DOOR, mending, weakening
from .visitors import OUTCOMES, Visit

AS_DUE, OPENABLE, NOT_KNOWN, FAILS = range(4)


@record
class DoorQuestion:
    """Says which visits, which of the outcomes (weakest first) are as they should be, and whether what the host can
    open counts: "" no, `true` what people can change, `strict` what no pin holds.

    A room that is off fails no question.
    """

    visits: tuple[Visit, ...]
    good: tuple[bool, bool, bool]
    pinned: str = ""

    def bad(self, least: Results, most: Results) -> Bools:
        """Return where some outcome from the least to the greatest is other than it should be."""
        found = np.zeros(least.shape, bool)
        for outcome, good in enumerate(self.good):
            if not good:
                found |= (least <= outcome) & (most >= outcome)
        return found


@record
class DoorVerdicts:
    """At each row of a panel.

    Its state (AS_DUE to FAILS), the place of the first visit that makes it so (MISSING for AS_DUE), what that visitor
    meets (a place in OUTCOMES), and the control to look at, into `names`: of what fails the root, of what can be opened
    the first gate's (MISSING for none).
    """

    state: Ints
    visit: Ints
    met: Ints
    control: Ints
    names: tuple[str, ...]


def ask(panel: Panel, question: DoorQuestion) -> DoorVerdicts:
    """Asks every row of a panel."""
    every = [meet(panel, visit) for visit in question.visits]
    state, chosen = np.zeros(panel.size, np.int32), np.full(panel.size, MISSING, np.int32)
    if every:
        least, most = np.array([met.least for met in every]), np.array([met.most for met in every])
        known, there = np.array([met.known for met in every]), np.array([met.exists for met in every]) != 0
        may_fail = question.bad(least, most) & there
        found = [(NOT_KNOWN, may_fail & ~known), (FAILS, may_fail & known)]
        if question.pinned:
            found.insert(0, (OPENABLE, question.bad(*_kept(panel, every, question)) & there))
        for one, mask in found:  # one row of a mask for each visit
            here = mask.any(axis=0)
            state[here], chosen[here] = one, mask.argmax(axis=0)[here]
    return _answer(panel, question, every, state, chosen)


def _kept(panel: Panel, every: Sequence[VisitOutcome], question: DoorQuestion) -> tuple[Results, Results]:
    """Return the least and greatest outcome of each visit once everything that the host can open is open."""
    strict, known = question.pinned == "strict", dict[tuple[str, str], Bools]()
    least, most = np.zeros((len(every), panel.size), np.int8), np.zeros((len(every), panel.size), np.int8)
    for low, high, met in zip(least, most, every, strict=True):
        for gate in met.gates:
            key = gate.control, gate.beside
            if key not in known:
                known[key] = ~_openable(panel, gate, strict)
            np.maximum(low, gate.least * known[key], out=low)
            np.maximum(high, gate.most * known[key], out=high)
    return least, most


def _openable(panel: Panel, gate: Gate, strict: bool) -> Bools:
    """Return where the host can make a gate let this visitor pass."""
    found = panel.openable(gate.control, strict)
    return found | panel.openable(IN_LINK, strict) if gate.beside else found


def _answer(
    panel: Panel, question: DoorQuestion, every: Sequence[VisitOutcome], state: Ints, chosen: Ints
) -> DoorVerdicts:
    """Return for each host the visit that decides a question, its outcome and the control to change."""
    met, control = np.full(panel.size, MISSING, np.int32), np.full(panel.size, MISSING, np.int32)
    names: dict[str, int] = {}
    for place in distinct(chosen[chosen != MISSING]).tolist():
        rows = np.flatnonzero(chosen == place)
        here = every[place]
        met[rows] = np.where(here.known, here.least, OUTCOMES.index("unknown"))[rows]
        failing, openable = rows[state[rows] == FAILS], rows[state[rows] == OPENABLE]
        if len(failing):
            control[failing] = _roots(panel.take(failing), question, question.visits[place], names)
        for gate in here.gates[::-1]:
            mine = openable[_openable(panel, gate, question.pinned == "strict")[openable] & (gate.most[openable] > 0)]
            control[mine] = names.setdefault(gate.control, len(names))
    return DoorVerdicts(state=state, visit=chosen, met=met, control=control, names=tuple(names))


def _roots(panel: Panel, question: DoorQuestion, visit: Visit, names: dict[str, int]) -> Ints:
    """Return the root of what fails, at each row.

    What mends it alone by being stricter, or else weaker, or the door as a whole.
    """

    def good(least: Results, most: Results) -> Bools:
        return ~question.bad(least, most)

    fix = mending(panel, visit, good)
    control = np.full(panel.size, MISSING, np.int32)
    for number, name in enumerate(fix.controls):
        mine = fix.control == number
        if np.any(mine):
            control[mine] = names.setdefault(name, len(names))
    met = meet(panel, visit)
    for gate in met.gates:
        mine = (control == MISSING) & (gate.least == met.least) & (met.least > 0)
        if np.any(mine):
            mends = mine & (weakening(panel, visit, gate.control, good) != MISSING)
            control[mends] = names.setdefault(gate.control, len(names))
            control[mine & ~mends] = names.setdefault(DOOR, len(names))
    control[control == MISSING] = names.setdefault(DOOR, len(names))
    return control
