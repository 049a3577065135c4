"""Plans of a single edit, all of them tried: where one edit ends every finding, there is nothing fewer."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..organisation.settings import GROUP, ORGANISATION, PERSON, UNIT
from ..settings.edited import NewValue, SettingTarget
from ..verdicts.rules import hangs_on
from ..words.record import record
from .candidates import CandidateEdits
from .deadline import NEVER_PASSES, Deadline
from .judging import Judging, PlanScore

MOST_TRIED = 400


def single_edits(judging: Judging, offers: CandidateEdits) -> Iterator[tuple[SettingTarget, NewValue]]:
    """Yield the edits that reach everyone who has something to mend, of controls on which all that is to be mended
    hangs.
    """
    reach = _to_reach(judging)
    people, meetings, whole = reach.people, reach.meetings, reach.organisation
    leaves = [rule.judged_on(judging.service) for rule, _ in judging.subjects()]
    for control in judging.controls:
        # No rule that asks for something to be mended may say the same whatever the control is.
        if not offers.editable(control) or not all(any(hangs_on(leaf, (control,)) for leaf in each) for each in leaves):
            continue
        standing, values = offers.standing(control), offers.values(control)
        for kind, target in [(ORGANISATION, -1)] if whole else _places(judging, offers, people, control):
            now = standing.get((kind, target))
            for given in offers.options(kind, now, values):
                yield offers.edit_target(control, kind, target), given
        if len(meetings) == 1 and not whole and not np.any(judging.people_to_mend()) and judging.planned is not None:
            for edit_target in offers.at_meeting(control, judging.planned.ids[int(meetings[0])]):
                yield edit_target, NewValue(None)


@record
class _ToReach:
    """The people and planned meetings (numbers, int64) that edits have to reach, and whether the organisation too."""

    people: np.ndarray
    meetings: np.ndarray
    organisation: bool


def _to_reach(judging: Judging) -> _ToReach:
    """Return the people who have to be reached (organisers of meetings among them), the meetings, and whether the
    organisation itself has.
    """
    people, meetings, whole = judging.people_to_mend(), set[int](), False
    for rule, mask in judging.subjects():
        if rule.subject == "organisation":
            whole = True
        elif rule.subject == "meetings" and judging.planned is not None:
            meetings |= set(np.flatnonzero(mask).tolist())
            people = people.copy()
            people[judging.planned.organiser[mask]] = True
    return _ToReach(np.flatnonzero(people), np.array(sorted(meetings), np.int64), whole)


def _places(judging: Judging, offers: CandidateEdits, people: np.ndarray, control: str) -> Iterator[tuple[int, int]]:
    yield ORGANISATION, -1
    snapshot = judging.base.snapshot
    if UNIT in offers.levels and snapshot.units is not None:
        codes = snapshot.units.codes[people]
        if np.all(codes >= 0):
            ends = snapshot.units.ends
            low, high = int(codes.min()), int(codes.max())
            yield from ((UNIT, unit) for unit in range(low + 1) if ends[unit] > high)
    if GROUP in offers.levels:
        for kind, target in offers.standing(control):
            if kind == GROUP and target >= 0 and np.all(np.isin(people, judging.members(kind, target))):
                yield kind, target
    if PERSON in offers.levels and len(people) == 1:
        yield PERSON, int(people[0])


def best_single(
    judging: Judging, offers: CandidateEdits, deadline: Deadline = NEVER_PASSES
) -> tuple[PlanScore | None, bool]:
    """Return the best plan of one edit that ends every finding and has nothing against it.

    And whether all were tried.
    """
    edits = []
    for edit in single_edits(judging, offers):
        edits.append(edit)
        if len(edits) > MOST_TRIED:
            break
    best: PlanScore | None = None
    for edit_target, given in edits[:MOST_TRIED]:
        if deadline.has_passed:
            return best, False
        weighed = judging.weigh_if({edit_target: given}, 0)
        if weighed is None:
            continue
        if best is None or offers.preference_key(weighed) < offers.preference_key(best):
            best = weighed
    return best, len(edits) <= MOST_TRIED
