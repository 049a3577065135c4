"""A plan step by step: at each step the edit that ends most, as long as nothing speaks against it. Quick, and often the fewest."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..organisation.columns import MISSING
from ..organisation.settings import GROUP, MEETING, ORGANISATION, PERSON, UNIT
from ..organisation.units import lineage
from ..settings.edited import Given, Spot
from ..verdicts.codes import DRIFTS, LOOSE
from ..verdicts.outcome import Root
from .deadline import Deadline
from .judging import Judging, Weighed
from .offers import Offers
from .terms import Plan

_ROOTS = 3  # the largest at each step


def greedy(judging: Judging, offers: Offers, deadline: Deadline) -> Weighed:
    """The plan found; of no edits where none helps."""
    best = judging.weigh({})
    refused: set[Root] = set()
    while best.left and not deadline.has_passed:
        step = _step(judging, offers, best, refused, deadline)
        if step is None:
            break
        best = step
    return _thinned(judging, best, deadline)


def _step(judging: Judging, offers: Offers, now: Weighed, refused: set[Root], deadline: Deadline) -> Weighed | None:
    roots = [root for root in _roots(judging, now) if root not in refused]
    tried: set[tuple[Spot, Given]] = set()
    for start in range(0, len(roots), _ROOTS):
        best: Weighed | None = None
        for root in roots[start : start + _ROOTS]:
            for spot, given in edits_for(judging, offers, root, now.plan):
                if (spot, given) in tried or deadline.has_passed:
                    continue
                tried.add((spot, given))
                most = now.left - 1 if best is None else best.left
                weighed = judging.weigh_if({**now.plan, spot: given}, most)
                if weighed is None:
                    continue
                if best is None or offers.preference(weighed) < offers.preference(best):
                    best = weighed
        if best is not None:
            return best
        refused |= set(roots[start : start + _ROOTS])
    return None


def _roots(judging: Judging, now: Weighed) -> list[Root]:
    """What makes the verdicts drift that are left, the largest first."""
    counted: dict[Root, int] = {}
    trial = now.trial
    assert trial is not None
    for rule in judging.rules:
        if rule.subject == "people":
            people = np.flatnonzero(now.open_people[rule.id])
            if not len(people):
                continue
            tails, which = trial.tails(judging.service, trial.judge(rule, judging.service), people)
            many = np.bincount(which, minlength=len(tails))
            for tail, count in zip(tails, many.tolist(), strict=True):
                for leaf, outcome in tail.leaves:
                    if leaf.about in ("control", "door") and outcome.cause is not None and outcome.verdict <= LOOSE:
                        name = outcome.root.control if outcome.root is not None else leaf.name
                        root = outcome.root or Root(judging.service.id, name, outcome.cause.scope, outcome.cause.value)
                        weight = count if tail.root == root or outcome.verdict == DRIFTS else 0
                        counted[root] = counted.get(root, 0) + weight
        else:
            from ..verdicts.others import judge_organisation
            from ..verdicts.planned import judge_meetings

            if rule.subject == "meetings":
                told = judge_meetings(rule, judging.service, trial).found
            else:
                told = judge_organisation(rule, judging.service, trial.resolver).found
            for _, tail in told:
                if tail.root is not None and tail.root.scope is not None:
                    counted[tail.root] = counted.get(tail.root, 0) + 1
    return sorted(counted, key=lambda root: (-counted[root], root.control, root.scope or "", root.value or ""))


def edits_for(judging: Judging, offers: Offers, root: Root, plan: Plan) -> Iterator[tuple[Spot, Given]]:
    """What might mend a root: where it stands, and at what is wider."""
    control = root.control
    if control not in judging.controls or not offers.editable(control):
        return
    standing, values = offers.standing(control), offers.values(control)
    if root.scope is not None and root.scope.startswith("meeting:"):
        for spot in offers.at_meeting(control, root.scope.partition(":")[2]):
            yield spot, Given(None)
    for kind, target in _places(judging, offers, root):
        now = standing.get((kind, target))
        spot = offers.spot(control, kind, target)
        for given in offers.options(kind, now, values):
            if plan.get(spot) != given:
                yield spot, given


def _places(judging: Judging, offers: Offers, root: Root) -> Iterator[tuple[int, int]]:
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


def _thinned(judging: Judging, plan: Weighed, deadline: Deadline) -> Weighed:
    """The plan without the edits that later ones have made idle."""
    for spot in sorted(plan.plan, key=lambda spot: (spot.control, spot.scope)):
        if len(plan.plan) < 2 or deadline.has_passed:
            break
        fewer = judging.weigh({other: given for other, given in plan.plan.items() if other != spot})
        if not fewer.against and fewer.left <= plan.left:
            plan = fewer
    return plan
