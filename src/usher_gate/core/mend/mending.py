"""The whole plan: the components' plans together, judged again by a whole check, in an order that hurts no one.

And what is left.

Spec: mending 1 to 6.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np

from ..changes.apply import apply_changes
from ..changes.compare import ChangeComparison, Compared, ValueMoved
from ..changes.model import Change, Changes, Set, Unset
from ..organisation.build.table import Table
from ..organisation.snapshot import Snapshot
from ..settings.edited import NewValue, SettingTarget
from ..verdicts.checker import Checker
from ..verdicts.rules import AgreedException, Baseline
from ..verdicts.trial import Remembered, Trial
from ..words.faults import Faults
from ..words.record import record
from .components import components
from .constraints import MendingConstraints
from .deadline import Deadline
from .ended import count_findings
from .judging import Judging, PlanScore
from .leftovers import LeftOver, leftovers
from .optimum import STOPPED, ComponentPlan, solve
from .order import NO_ORDER, NOT_FOUND, SAFE, in_order
from .tasks import Task, tasks

_SEARCHING = 0.85  # of the time; the rest is for the order of the edits, and for why verdicts are left
_MOST_REASONS = 10.0  # seconds for that
OnProgress = Callable[[int, int], None]


@record
class MadeEdit:
    """One edit of the plan.

    `ended` verdicts would be left again without it; `touched` values are other because of it, `without` of them of
    people who had nothing to mend there; `people` are active at its place; `undo` says who can undo it: no one, people,
    or settings.
    """

    edit_target: SettingTarget
    given: NewValue
    ended: int
    touched: int
    without: int
    people: int
    component: int
    undo: str


@record
class Membership:
    """A person (id, login) who is taken out of a group.

    Without it `ended` verdicts would drift again. `also` are values that change with it where the person has nothing to
    fix, `rules` the access rules (ids) that then include the person and did not, or the other way round.
    """

    group: str
    person: str
    login: str
    ended: int
    also: tuple[ValueMoved, ...]
    rules: tuple[str, ...]


@record
class MendingPart:
    """One component of the plan, by its number from 1."""

    number: int
    found: ComponentPlan


@record
class MendingResult:
    """The whole answer.

    `drifting` verdicts drift now, `mendable` of them by a setting; `ended` drift no more, `left` are left of those to
    be mended; `freed` people (id, login) drift from nothing any more. `order` (one of ORDERS) says whether no step on
    the way makes any verdict worse.
    """

    snapshot: Snapshot
    changes: Changes
    comparison: ChangeComparison | None
    edits: tuple[MadeEdit, ...]
    parts: tuple[MendingPart, ...]
    drifting: int
    mendable: int
    ended: int
    freed: tuple[tuple[str, str], ...]
    touched: int
    without: int
    affected: tuple[ValueMoved, ...]  # the values of `without`
    left_over: tuple[LeftOver, ...]
    left: int
    tasks: tuple[Task, ...]
    order: str
    limit: int | None
    notes: tuple[str, ...]
    memberships: tuple[Membership, ...] = ()
    tried_all: bool = True  # whether every choice of memberships was tried, where these are edits

    @property
    def many(self) -> int:
        """Return how many edits there are."""
        return len(self.edits) + len(self.memberships)

    @property
    def weaker(self) -> tuple[ValueMoved, ...]:
        """Return the values that get weaker."""
        return () if self.comparison is None else self.comparison.weaker

    @property
    def gap(self) -> int:
        """By how many edits the plan may be more than the fewest."""
        return sum(part.found.gap for part in self.parts)

    @property
    def proof(self) -> str:
        """Return how sure it is that there are no fewer."""
        if not self.tried_all:
            return "not every choice of memberships was tried"
        return "proven fewest" if not self.gap else f"at most {self.gap} more than the fewest"


class Mended(Exception):
    """The plan, judged again by a whole check, does not hold what it promised: a bug."""


@record
class MendingRequest:
    """Describes what is asked.

    A baseline and exceptions, the terms, and the most edits that a plan may have (None: as many as are needed).
    """

    baseline: Baseline
    exceptions: Sequence[AgreedException]
    terms: MendingConstraints
    limit: int | None = None


def mend(
    snapshot: Snapshot,
    tables: Mapping[str, Table],
    asked: MendingRequest,
    clock: Callable[[], float],
    seconds: float,
    on_progress: OnProgress | None = None,
) -> MendingResult:
    """Return the fewest edits, found in so many seconds; judged again before it is returned."""
    terms, pinnable = asked.terms, snapshot.says_pinned
    base = Remembered(snapshot, asked.baseline, asked.exceptions)
    deadline = Deadline(clock, clock() + seconds)
    every = list(components(base, terms))
    searching = deadline.part(_SEARCHING)
    found = _solved(every, searching if asked.limit is None else searching.part(0.5), on_progress)
    found = found if asked.limit is None else _within(found, searching, asked.limit)
    plan = {edit_target: given for each in found for edit_target, given in each.weighed.plan.items()}
    parts = tuple(MendingPart(number, each) for number, each in enumerate(found, 1))
    ordered, order = _ordered(parts, deadline)
    changes = Changes(
        title_of(len(plan)),
        None,
        tuple(_change(edit.edit_target, edit.given, pinnable) for edit in ordered),
        (0,) * len(ordered),
    )
    comparison = _judged_again(snapshot, tables, asked, changes, found) if plan else None
    left = sum(each.weighed.left for each in found)
    after, people = Trial(base, plan), snapshot.people
    counts = count_findings(base, after, terms)
    return MendingResult(
        snapshot=snapshot,
        changes=changes,
        comparison=comparison,
        edits=ordered,
        parts=parts,
        drifting=counts.drifting,
        mendable=sum(each.judging.to_mend_in_all() for each in found),
        ended=counts.ended,
        freed=tuple(zip(people.ids.take(counts.freed), people.logins.take(counts.freed), strict=True)),
        touched=sum(each.weighed.touched for each in found),
        without=sum(each.weighed.without for each in found),
        affected=tuple(value for each in found for value in _affected(each.judging, each.weighed)),
        left_over=tuple(leftovers(found, Deadline(clock, min(deadline.until, clock() + _MOST_REASONS)))),
        left=left,
        tasks=tuple(tasks(after, terms)),
        order=order,
        limit=asked.limit,
        notes=(*_notes(snapshot), *_unfinished(found, seconds)),
    )


def _affected(judging: Judging, weighed: PlanScore) -> Iterator[ValueMoved]:
    """Yield the values that a plan changes of people who have nothing to mend there.

    Of an edit at a meeting its organiser's, by that meeting.
    """
    trial, people = weighed.trial, judging.base.snapshot.people
    assert trial is not None
    for control, mask in sorted(weighed.touched_people.items()):
        numbers = np.flatnonzero(mask & ~judging.need[control])
        sides = [checker.resolver.effective(judging.service, control) for checker in (judging.base, trial)]
        for number, name, login in zip(
            numbers.tolist(), people.ids.take(numbers), people.logins.take(numbers), strict=True
        ):
            before, after = (side.values[int(side.places[number])] for side in sides)
            if before == after:
                before, after = _at_a_meeting(judging, trial, control, number)
            yield ValueMoved(
                service=judging.service.id, control=control, person=name, login=login, before=before, after=after
            )


def _at_a_meeting(judging: Judging, trial: Trial, control: str, organiser: int) -> tuple[str | None, str | None]:
    """Return the values of the first meeting of an organiser that are not alike."""
    planned = judging.planned
    assert planned is not None
    after = trial.agenda.services[judging.service.id]
    for number in np.flatnonzero(planned.organiser == organiser).tolist():
        values = planned.value(control, number)[0], after.value(control, number)[0]
        if values[0] != values[1]:
            return values
    return None, None


def _unfinished(found: Sequence[ComponentPlan], seconds: float) -> tuple[str, ...]:
    """Return what was not finished in the time."""
    many = sum(each.by == STOPPED for each in found)
    if not many:
        return ()
    parts = "the search" if len(found) == 1 else f"the search in {many} of {len(found)} components"
    return (
        f"{parts} was stopped after {seconds:g} seconds: there may be plans of fewer edits; --seconds gives it longer",
    )


def title_of(many: int) -> str:
    """Return the title of a file of changes with so many edits."""
    return "1 edit that mends" if many == 1 else f"{many} edits that mend"


def _notes(snapshot: Snapshot) -> tuple[str, ...]:
    if snapshot.services is None:
        return ("the snapshot has no services.yaml, so nothing can be set anywhere",)
    if snapshot.settings is not None and not snapshot.says_pinned:
        return ("settings has no column pinned, so no edit pins anything",)
    return ()


def _solved(every: Sequence[Judging], deadline: Deadline, on_progress: OnProgress | None) -> list[ComponentPlan]:
    found = []
    for number, judging in enumerate(every):
        found.append(solve(judging, deadline.part(1 / (len(every) - number))))
        if on_progress is not None:
            on_progress(number + 1, len(every))
    return found


def _within(found: list[ComponentPlan], deadline: Deadline, limit: int) -> list[ComponentPlan]:
    """Split `limit` edits among the components (a knapsack): at most so many edits all together, and fewest
    verdicts are left.
    """
    if sum(len(each.weighed.plan) for each in found) <= limit:
        return found
    best: list[list[ComponentPlan]] = [[]]  # of 0, 1, ... edits: the plans of the components so far
    cost = [0]
    waiting = sum(min(len(each.weighed.plan), limit + 1) for each in found)  # plans to look for
    for each in found:
        whole = len(each.weighed.plan)
        choices = []
        for many in range(min(whole, limit) + 1):
            if many == whole:
                choices.append(each)
                continue
            choices.append(solve(each.judging, deadline.part(1 / waiting), many))
            waiting = max(waiting - 1, 1)
        plans: list[list[ComponentPlan]] = []
        costs: list[int] = []
        for edits in range(limit + 1):
            options = [
                (cost[min(edits - many, len(cost) - 1)] + choice.weighed.left, many)
                for many, choice in enumerate(choices)
                if many <= edits
            ]
            least, many = min(options)
            costs.append(least)
            plans.append([*best[min(edits - many, len(best) - 1)], choices[many]])
        best, cost = plans, costs
    fewest = min(range(limit + 1), key=lambda edits: (cost[edits], edits))
    return best[fewest]


def _ordered(parts: Sequence[MendingPart], deadline: Deadline) -> tuple[tuple[MadeEdit, ...], str]:
    """Return the edits in the order of making them.

    The widest relief first, no step making any verdict worse where that can be.
    """
    made: list[tuple[int, list[MadeEdit]]] = []
    orders = {SAFE}
    for part in parts:
        judging, plan = part.found.judging, part.found.weighed
        if not plan.plan:
            continue
        order, harmless = in_order(judging, plan, deadline)
        orders.add(harmless)
        edits = [_made(judging, plan, edit_target, part.number) for edit_target in order]
        made.append((-max(edit.ended for edit in edits), edits))
    whole = next(word for word in (NO_ORDER, NOT_FOUND, SAFE) if word in orders)
    return tuple(
        edit for _, edits in sorted(made, key=lambda one: (one[0], one[1][0].component)) for edit in edits
    ), whole


def _made(judging: Judging, plan: PlanScore, edit_target: SettingTarget, component: int) -> MadeEdit:
    """Describe one edit of the plan: what it alone ends and whose values it changes, found by judging without it."""
    given = plan.plan[edit_target]
    if len(plan.plan) == 1:
        ended, touched, without = judging.to_mend_in_all() - plan.left, plan.touched, plan.without
    else:
        less = judging.weigh({other: one for other, one in plan.plan.items() if other != edit_target})
        ended = less.left - plan.left
        mask = judging.apart(plan, less, edit_target.control)
        touched = int(np.count_nonzero(mask))
        without = int(np.count_nonzero(mask & ~judging.need[edit_target.control]))
    people = judging.reach({edit_target: given})
    return MadeEdit(
        edit_target=edit_target,
        given=given,
        ended=ended,
        touched=touched,
        without=without,
        people=people,
        component=component,
        undo=_undo(judging, edit_target, given),
    )


def _undo(judging: Judging, edit_target: SettingTarget, given: NewValue) -> str:
    if given.pinned:
        return "nobody"
    return "people" if judging.service.changeable(edit_target.control) else "settings"


def _change(edit_target: SettingTarget, given: NewValue, pinnable: bool) -> Change:
    if given.value is None:
        return Unset(edit_target.service, edit_target.control, edit_target.scope)
    return Set(
        service=edit_target.service,
        control=edit_target.control,
        scope=edit_target.scope,
        value=given.value,
        pinned=given.pinned if pinnable else None,
    )


def _judged_again(
    snapshot: Snapshot,
    tables: Mapping[str, Table],
    asked: MendingRequest,
    changes: Changes,
    found: Sequence[ComponentPlan],
) -> ChangeComparison:
    """Return the whole check before and after; raises Mended where it says other than was promised."""
    faults = Faults()
    applied = apply_changes(snapshot, tables, changes, "the plan", faults)
    if applied is None:
        raise Mended(faults.found[0].message)
    compared = Compared(snapshot, applied, changes, asked.baseline, asked.exceptions)
    made = compared.comparison()
    if made.begun or made.worse:
        moved = (*made.begun, *made.worse)[0]
        raise Mended(f"{moved.rule} gets worse for {moved.subject[1]}")
    if not asked.terms.turn_away and any(each.turned_away for each in made.meetings):
        raise Mended(f"someone invited to {made.meetings[0].meeting.id} is turned away")
    after: Checker = compared.checkers[1]
    for each in found:
        judging = each.judging
        left = sum(int(np.count_nonzero(judging.left_of(rule, judging.said(rule, after)))) for rule in judging.rules)
        if left != each.weighed.left:
            raise Mended(f"{left} verdicts about {judging.controls[0]} are left, not {each.weighed.left}")
    return made


def batches(edits: Sequence[MadeEdit], snapshot: Snapshot) -> Iterator[tuple[str, str, int, int]]:
    """Yield the edits at people on services that assign in batches.

    Service, control, edits, and the size of a batch.
    """
    counted: dict[tuple[str, str], int] = {}
    sizes = {service.id: service.batch for service in snapshot.services or ()}
    for edit in edits:
        if edit.edit_target.scope.startswith("person:") and sizes.get(edit.edit_target.service) is not None:
            key = edit.edit_target.service, edit.edit_target.control
            counted[key] = counted.get(key, 0) + 1
    for (service, control), many in sorted(counted.items()):
        size = sizes[service]
        assert size is not None
        yield service, control, many, size
