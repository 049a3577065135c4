"""Asking many doors at once whether they give visitors what they should.

Source: door, "The leaf and the verdict"; readings 14 and 17 to 20, 52.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..organisation.columns import MISSING, Bools, Ints, distinct
from ..words.record import record
from .gates import IN_LINK, ROOM, SHUTS, Gate, Met, Panel, Results, meet
from .roots import DOOR, mending, weakening
from .visitors import OUTCOMES, Visit

AS_DUE, OPENABLE, NOT_KNOWN, FAILS = range(4)


@record
class Question:
    """Which visits, which of the outcomes (weakest first) are as they should be, and whether what the host can open counts: "" no, `true`
    what people can change, `strict` what no pin holds. In a planned meeting a room that is off refuses everybody (`planned`)."""

    visits: tuple[Visit, ...]
    good: tuple[bool, bool, bool]
    pinned: str = ""
    planned: bool = False

    @property
    def bad(self) -> NDArray[np.bool_]:
        """Whether an outcome between two may be other than it should: by the least and the greatest."""
        return np.array([[not all(self.good[least : most + 1]) for most in range(3)] for least in range(3)])


@record
class Answer:
    """At each row of a panel: how it stands (AS_DUE to FAILS), the place of the first visit that makes it so (MISSING for AS_DUE), what
    that visitor meets (a place in OUTCOMES), and the control to look at, into `names`: of what fails the root, of what can be opened the
    first gate's (MISSING for none)."""

    state: Ints
    visit: Ints
    met: Ints
    control: Ints
    names: tuple[str, ...]


def ask(panel: Panel, question: Question) -> Answer:
    """Asks every row of a panel."""
    first = {state: np.full(panel.size, MISSING, np.int32) for state in (OPENABLE, NOT_KNOWN, FAILS)}
    bad, every = question.bad, []
    for place, visit in enumerate(question.visits):
        met = meet(panel, visit)
        every.append(met)
        least, most, known, there = _limits(met, question.planned)
        may_fail = bad[least, most] & there
        found = [(FAILS, may_fail & known), (NOT_KNOWN, may_fail & ~known)]
        if question.pinned:
            opened = [~_openable(panel, gate, question.pinned == "strict") for gate in met.gates]
            kept = [np.zeros(panel.size, np.int8)]
            lower = np.maximum.reduce(
                [*kept, *(gate.least * shut for gate, shut in zip(met.gates, opened, strict=True))]
            )
            upper = np.maximum.reduce(
                [*kept, *(gate.most * shut for gate, shut in zip(met.gates, opened, strict=True))]
            )
            found.append((OPENABLE, bad[lower, upper] & there & (met.exists != 0)))
        for one, mask in found:
            first[one][mask & (first[one] == MISSING)] = place
    state, chosen = np.zeros(panel.size, np.int32), np.full(panel.size, MISSING, np.int32)
    for one in (OPENABLE, NOT_KNOWN, FAILS):
        here = first[one] != MISSING
        state[here], chosen[here] = one, first[one][here]
    return _tell(panel, question, every, state, chosen)


def _limits(met: Met, planned: bool) -> tuple[Results, Results, Bools, Bools]:
    """The least and greatest outcome, where it is known, and where there is a room at all."""
    if not planned:
        return met.least, met.most, met.known, met.exists != 0
    shut = met.exists == 0
    least, most = (np.where(shut, SHUTS, limit).astype(np.int8) for limit in (met.least, met.most))
    return least, most, met.known | shut, np.ones(len(shut), bool)


def _openable(panel: Panel, gate: Gate, strict: bool) -> Bools:
    """Where the host can make a gate let this visitor pass."""
    found = panel.openable(gate.control, strict)
    return found | panel.openable(IN_LINK, strict) if gate.beside else found


def _tell(panel: Panel, question: Question, every: Sequence[Met], state: Ints, chosen: Ints) -> Answer:
    met, control = np.full(panel.size, MISSING, np.int32), np.full(panel.size, MISSING, np.int32)
    names: dict[str, int] = {}
    for place in distinct(chosen[chosen != MISSING]).tolist():
        rows = np.flatnonzero(chosen == place)
        here = every[place]
        least, _, known, _ = _limits(here, question.planned)
        met[rows] = np.where(known, least, OUTCOMES.index("unknown"))[rows]
        failing, openable = rows[state[rows] == FAILS], rows[state[rows] == OPENABLE]
        shut = failing[here.exists[failing] == 0]
        if len(shut):  # a room that is off: what mends is to have it, or nothing
            mends = ~question.bad[here.least[shut], here.most[shut]]
            control[shut] = np.where(mends, names.setdefault(ROOM, len(names)), names.setdefault(DOOR, len(names)))
        failing = failing[here.exists[failing] != 0]
        if len(failing):
            control[failing] = _roots(panel.take(failing), question, question.visits[place], names)
        for gate in here.gates[::-1]:
            mine = openable[_openable(panel, gate, question.pinned == "strict")[openable] & (gate.most[openable] > 0)]
            control[mine] = names.setdefault(gate.control, len(names))
    return Answer(state, chosen, met, control, tuple(names))


def _roots(panel: Panel, question: Question, visit: Visit, names: dict[str, int]) -> Ints:
    """The root of what fails, at each row: what mends it alone by being stricter, or else weaker, or the door as a whole."""
    bad = question.bad

    def good(least: Results, most: Results) -> Bools:
        found: Bools = ~bad[least, most]
        return found

    told = mending(panel, visit, good)
    control = np.full(panel.size, MISSING, np.int32)
    for number, name in enumerate(told.controls):
        mine = told.control == number
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
