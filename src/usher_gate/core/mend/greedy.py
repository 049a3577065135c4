"""A plan step by step: at each step the edit that ends most, as long as nothing speaks against it.

Quick, and often the fewest.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..organisation.columns import MISSING
from ..organisation.settings import GROUP, MEETING, ORGANISATION, PERSON, UNIT
from ..organisation.units import lineage
from ..settings.edited import NewValue, SettingTarget
from ..verdicts.codes import DRIFTS, LOOSE
from ..verdicts.outcome import Root
from .candidates import CandidateEdits
from .constraints import Plan
from .deadline import Deadline
from .judging import Judging, PlanScore

_ROOTS = 3  # the largest at each step


def greedy(judging: Judging, offers: CandidateEdits, deadline: Deadline) -> PlanScore:
    """Return the plan found; of no edits where none helps."""
    best = judging.weigh({})
    refused: set[Root] = set()
    while best.left and not deadline.has_passed:
        step = _step(judging, offers, best, refused, deadline)
        if step is None:
            break
        best = step
    return _thinned(judging, best, deadline)


def _step(
    judging: Judging, offers: CandidateEdits, now: PlanScore, refused: set[Root], deadline: Deadline
) -> PlanScore | None:
    """Return the best plan that adds one edit to the current one, or None if no edit ends a finding without harm."""
    roots = [root for root in _roots(judging, now) if root not in refused]
    tried: set[tuple[SettingTarget, NewValue]] = set()
    for start in range(0, len(roots), _ROOTS):
        best: PlanScore | None = None
        for root in roots[start : start + _ROOTS]:
            for edit_target, given in edits_for(judging, offers, root, now.plan):
                if (edit_target, given) in tried or deadline.has_passed:
                    continue
                tried.add((edit_target, given))
                most = now.left - 1 if best is None else best.left
                weighed = judging.weigh_if({**now.plan, edit_target: given}, most)
                if weighed is None:
                    continue
                if best is None or offers.preference_key(weighed) < offers.preference_key(best):
                    best = weighed
        if best is not None:
            return best
        refused |= set(roots[start : start + _ROOTS])
    return None


def _roots(judging: Judging, now: PlanScore) -> list[Root]:
    """Return what makes the verdicts drift that are left, the largest first."""
    counted: dict[Root, int] = {}
    trial = now.trial
    assert trial is not None
    for rule in judging.rules:
        if rule.subject == "people":
            people = np.flatnonzero(now.open_people[rule.id])
            if not len(people):
                continue
            details, which = trial.details(judging.service, trial.judge(rule, judging.service), people)
            many = np.bincount(which, minlength=len(details))
            for detail, count in zip(details, many.tolist(), strict=True):
                for leaf, outcome in detail.leaves:
                    if leaf.about in ("control", "door") and outcome.cause is not None and outcome.verdict <= LOOSE:
                        name = outcome.root.control if outcome.root is not None else leaf.name
                        root = outcome.root or Root(judging.service.id, name, outcome.cause.scope, outcome.cause.value)
                        weight = count if detail.root == root or outcome.verdict == DRIFTS else 0
                        counted[root] = counted.get(root, 0) + weight
        else:
            from ..verdicts.others import judge_organisation
            from ..verdicts.planned import judge_meetings

            if rule.subject == "meetings":
                judged = judge_meetings(rule, judging.service, trial).found
            else:
                judged = judge_organisation(rule, judging.service, trial.resolver).found
            for _, detail in judged:
                if detail.root is not None and detail.root.scope is not None:
                    counted[detail.root] = counted.get(detail.root, 0) + 1
    return sorted(counted, key=lambda root: (-counted[root], root.control, root.scope or "", root.value or ""))


def edits_for(
    judging: Judging, offers: CandidateEdits, root: Root, plan: Plan
) -> Iterator[tuple[SettingTarget, NewValue]]:
    """Yield edits that might mend a cause: at its own place, and at wider ones."""
    control = root.control
    if control not in judging.controls or not offers.editable(control):
        return
    standing, values = offers.standing(control), offers.values(control)
    if root.scope is not None and root.scope.startswith("meeting:"):
        for edit_target in offers.at_meeting(control, root.scope.partition(":")[2]):
            yield edit_target, NewValue(None)
    for kind, target in _places(judging, offers, root):
        now = standing.get((kind, target))
        edit_target = offers.edit_target(control, kind, target)
        for given in offers.options(kind, now, values):
            if plan.get(edit_target) != given:
                yield edit_target, given


def _places(judging: Judging, offers: CandidateEdits, root: Root) -> Iterator[tuple[int, int]]:
    """Yield the places at which an edit could override a cause: as wide as the organisation down to the person."""
    snapshot = judging.base.snapshot
    kind, _, name = (root.scope or "").partition(":")
    found: list[tuple[int, int]] = [(ORGANISATION, MISSING)]
    units = snapshot.units
    if kind == "unit" and units is not None and name in units.index:
        found += [(UNIT, units.index[path]) for path in lineage(name)]
    elif kind == "group" and snapshot.groups is not None:
        found.append((GROUP, snapshot.groups.ids.index(name)))
    elif kind == "person":
        place = snapshot.people.ids.find(name) or snapshot.people.logins.find(name)
        if place:
            found.append((PERSON, place[0]))
            if units is not None:
                found += [(UNIT, units.index[path]) for path in units.path_of(place[0])]
    yield from (place for place in found if place[0] in offers.levels or place[0] == MEETING)


def _thinned(judging: Judging, plan: PlanScore, deadline: Deadline) -> PlanScore:
    """Return the plan without the edits that later ones have made idle."""
    for edit_target in sorted(plan.plan, key=lambda edit_target: (edit_target.control, edit_target.scope)):
        if len(plan.plan) < 2 or deadline.has_passed:
            break
        fewer = judging.weigh({other: given for other, given in plan.plan.items() if other != edit_target})
        if not fewer.against and fewer.left <= plan.left:
            plan = fewer
    return plan
