"""What would have to change so that a visitor meets something else: the one control that mends it alone.

Spec: doors 4.4.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from ..organisation.columns import MISSING, Bools, Ints
from ..words.record import record
from .gates import Panel, Results, meet, passcode_of, waiting_of
from .visitors import AUDIENCES, SHOWS, WAY_CONTROLS, Visit

Good = Callable[[Results, Results], Bools]  # whether outcomes between these two are as they should be
DOOR = "door"  # in place of a control if none mends it alone


@record
class DoorFix:
    """For each row the number of the control that mends alone (into `controls`, MISSING for none) and the weakest value
    of it that does.
    """

    controls: tuple[str, ...]
    control: Ints
    value: Ints


def tried(panel: Panel, visit: Visit) -> tuple[str, ...]:
    """Return the controls that may be the root of what a visitor meets, in the order in which they are tried."""
    way = WAY_CONTROLS.get(visit.way, "")
    if visit.kind in SHOWS:
        found: Iterable[str] = (AUDIENCES[visit.kind], way)
    else:
        found = (waiting_of(panel, visit), "door.identity", "door.anonymous-join", passcode_of(visit), way)
    return tuple(control for control in found if control in panel.held)


def mending(panel: Panel, visit: Visit, good: Good) -> DoorFix:
    """Return what mends one visit alone, at each row of a panel.

    The first control of which some stricter value does.
    """
    controls = tried(panel, visit)
    control, value = np.full(panel.size, MISSING, np.int32), np.full(panel.size, MISSING, np.int32)
    for number, name in enumerate(controls):
        for place, mends in _tries(panel, visit, name, good, 1):
            taken = mends & (control == MISSING)
            control[taken], value[taken] = number, place
    return DoorFix(controls, control, value)


def weakening(panel: Panel, visit: Visit, name: str, good: Good) -> Ints:
    """Return the strictest of the weaker values of a control that makes a visit as it should be, at each row.

    MISSING for none.
    """
    value = np.full(panel.size, MISSING, np.int32)
    for place, mends in _tries(panel, visit, name, good, -1):
        value[mends & (value == MISSING)] = place
    return value


def _tries(panel: Panel, visit: Visit, name: str, good: Good, step: int) -> Iterable[tuple[int, Bools]]:
    """Yield each value of a control, from what is set outwards.

    And where it is stricter (`step` 1) or weaker (-1), and mends.
    """
    held, words = panel.held[name], panel.catalogue.index[name].kind.words
    now = np.array([MISSING if value is None else words.index(value) for value in held.values], np.int32)[held.codes]
    for place in range(len(words))[::step]:
        beyond = (now != MISSING) & ((place - now) * step > 0)
        if np.any(beyond):
            met = meet(panel.with_value(name, words[place]), visit)
            yield place, beyond & good(met.least, met.most)
