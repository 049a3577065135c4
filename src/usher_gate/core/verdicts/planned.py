"""Rules about planned meetings: one verdict for each, on its service.

Spec: doors 5.2.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from ..door.agenda import PlannedOn
from ..door.asking import FAILS, DoorQuestion, ask
from ..door.visitors import OUTCOMES, ways_of
from ..organisation.columns import DAY, MISSING, Ints, distinct
from ..organisation.services import Service
from ..settings.effective import Cause
from ..words.vocabulary import MEETING_KINDS
from .checker import Checker, PairVerdicts
from .codes import DRIFTS, EXCEPTED, EXEMPT, LOOSE, MEETS, UNKNOWN
from .condition import Leaf, judge
from .control_leaf import ControlJudge
from .door_leaf import control_of, outcome_of_row
from .others import OtherVerdicts, Subject
from .outcome import Judged, Outcome, Root, VerdictDetail, coded, constant
from .rules import Rule


def judge_meetings(rule: Rule, service: Service | None, checker: Checker) -> OtherVerdicts:
    """Judge one rule about the planned meetings on one service."""
    planned = checker.agenda.services.get(service.id) if service is not None else None
    notes = tuple(checker.agenda.notes)
    if checker.snapshot.meetings is None:
        notes = (f"rule {rule.id} is about planned meetings, and the snapshot has no table meetings: it judges no one",)
    if planned is None or service is None:
        return OtherVerdicts((), {}, notes)
    scope = checker.scopes.of(rule, service)
    verdicts = _verdicts(rule, service, checker, planned)
    numbers = np.flatnonzero((verdicts.verdict != MEETS) & (verdicts.verdict != EXEMPT))
    details: list[VerdictDetail] = [
        _PLAIN[int(code)] for code in np.where(verdicts.verdict == EXEMPT, EXEMPT, MEETS).tolist()
    ]
    if len(numbers):
        said, which = checker.details(service, verdicts, numbers)
        for number, place in zip(numbers.tolist(), which.tolist(), strict=True):
            details[number] = said[place]
    found: list[tuple[Subject, VerdictDetail]] = [
        (("meeting", name), detail) for name, detail in zip(planned.ids, details, strict=True)
    ]
    covers = {name: int(np.count_nonzero(mine)) for name, mine in verdicts.covers.items()}
    return OtherVerdicts(tuple(found), covers, (*notes, *scope.notes, *verdicts.notes), planned.organiser)


_PLAIN = {code: VerdictDetail(code, "", (), None) for code in (MEETS, EXEMPT)}


def _verdicts(rule: Rule, service: Service, checker: Checker, planned: PlannedOn) -> PairVerdicts:
    """Return all planned meetings on a service, one after another."""
    size, organiser = len(planned), planned.organiser
    scope, tree = checker.scopes.of(rule, service), rule.tree_on(service)
    judged: list[Judged] = []
    verdict = np.full(size, UNKNOWN, np.uint8)
    if scope.answered and tree is not None:
        judged = judge_leaves(rule, service, checker)
        verdict = judge(tree, {leaf.leaf.number: leaf.verdicts[leaf.codes] for leaf in judged}, size).copy()
    verdict[scope.outside[organiser]] = EXEMPT
    excused = checker.excuse(rule, service, verdict, organiser)
    exception, would_be = excused.exception, verdict
    verdict = np.where(exception != MISSING, EXCEPTED, verdict).astype(np.uint8)
    answered = tree if scope.answered else None
    return PairVerdicts(
        verdict=verdict,
        would_be=would_be,
        exception=exception,
        judged=judged,
        tree=answered,
        answered=scope.answered,
        covers=excused.covers,
        notes=tuple(excused.notes),
    )


def judge_leaves(rule: Rule, service: Service, checker: Checker) -> list[Judged]:
    """Return the leaves of a rule about planned meetings, each judged for every meeting on a service."""
    known = [(leaf, checker.leaf_of_meetings(leaf, rule, service)) for leaf in rule.judged_on(service)]
    return [judge_leaf(leaf, rule, service, checker) if judged is None else judged for leaf, judged in known]


def judge_leaf(leaf: Leaf, rule: Rule, service: Service, checker: Checker) -> Judged:
    """Judge one leaf of such a rule."""
    planned = checker.agenda.services[service.id]
    if leaf.about == "meeting":
        return _field(leaf, checker, planned)
    if leaf.about == "door":
        return _door(leaf, rule.pinned, service, planned)
    return _control(leaf, rule.pinned, service, checker, planned)


def _control(leaf: Leaf, pinned: str, service: Service, checker: Checker, planned: PlannedOn) -> Judged:
    """Return the organiser's value, unless the meeting's own setting counts.

    Neither youth nor what was seen is asked.
    """
    assert leaf.comparison is not None
    effective = checker.resolver.effective(service, leaf.name)
    base = ControlJudge(leaf, pinned, service, effective, None, settled=True).judge()
    used, which = np.unique(base.codes[planned.organiser], return_inverse=True)
    outcomes = [base.outcome(code) for code in used.tolist()]
    codes: Ints = which.reshape(-1).astype(np.int32)
    open_to_change = pinned == "strict" or (pinned == "true" and service.changeable(leaf.name))
    for number, settings in planned.own.items():
        own = settings.get(leaf.name)
        if own is None:
            continue
        cause = Cause(f"meeting:{planned.ids[number]}", own.value, own.pinned, row=own.row)
        root = Root(service.id, leaf.name, cause.scope, own.value)
        if not leaf.comparison.passes(own.value):
            outcome = Outcome(verdict=DRIFTS, reason="fails", actual=own.value, cause=cause, root=root)
        elif open_to_change and not own.pinned:
            outcome = Outcome(LOOSE, "changeable", own.value, cause)
        else:
            outcome = Outcome(MEETS, "", own.value, cause)
        codes[number] = len(outcomes)
        outcomes.append(outcome)
    return coded(leaf, codes, outcomes)


def _door(leaf: Leaf, pinned: str, service: Service, planned: PlannedOn) -> Judged:
    """Return the door of each meeting, of its own kind alone; a leaf about other kinds meets it."""
    assert leaf.visitor_selection is not None and leaf.comparison is not None
    codes, outcomes = np.zeros(len(planned), np.int32), [Outcome(MEETS, "")]
    for place in distinct(planned.kinds).tolist():
        kind = MEETING_KINDS[place]
        if kind not in leaf.visitor_selection.kinds:
            continue
        question = _question(leaf, kind, planned, pinned)
        answer = ask(planned.panel, question)
        known: dict[tuple[int, Cause | None], int] = {}
        for number in np.flatnonzero((planned.kinds == place) & (answer.state[planned.at] != 0)).tolist():
            row = int(planned.at[number])
            name = control_of(answer, row)
            cause = planned.value(name, number)[1] if name != "door" else None
            if (row, cause) not in known:
                known[row, cause] = len(outcomes)
                outcomes.append(outcome_of_row(question, answer, row, service.id, cause))
            codes[number] = known[row, cause]
    return coded(leaf, codes, outcomes)


def shutting(leaf: Leaf, planned: PlannedOn, numbers: Sequence[int], control: str) -> Callable[[str], bool]:
    """Return whether some meetings, at which a leaf about doors fails, would no more fail by a control with another
    value.
    """
    rows = np.array(numbers, np.int64)

    def shuts(value: str) -> bool:
        for place in distinct(planned.kinds[rows]).tolist():
            here = distinct(planned.at[rows[planned.kinds[rows] == place]])
            question = _question(leaf, MEETING_KINDS[place], planned, "")
            answer = ask(planned.panel.take(here).with_value(control, value), question)
            if any(
                state == FAILS and control_of(answer, row) == control for row, state in enumerate(answer.state.tolist())
            ):
                return False
        return True

    return shuts


def _question(leaf: Leaf, kind: str, planned: PlannedOn, pinned: str) -> DoorQuestion:
    """Return what a leaf asks of a meeting's door, for its own kind alone."""
    assert leaf.visitor_selection is not None and leaf.comparison is not None
    enters, waits, refused = (leaf.comparison.passes(word) for word in OUTCOMES[:3])
    visits = replace(leaf.visitor_selection, kinds=(kind,)).visits((kind,), ways_of(planned.service))
    return DoorQuestion(visits, (enters, waits, refused), pinned)


def _field(leaf: Leaf, checker: Checker, planned: PlannedOn) -> Judged:
    """Return what a meeting says of itself; a column that the table does not have is not known."""
    assert leaf.comparison is not None
    values = _values(leaf.name, checker, planned)
    if values is None:
        return constant(leaf, Outcome(UNKNOWN, "no-fact"), len(planned))
    words = {word: place for place, word in enumerate(dict.fromkeys(values))}
    root = Root(None, leaf.name, "meetings", None)
    outcomes = [
        Outcome(MEETS, "", word)
        if leaf.comparison.passes(word)
        else Outcome(verdict=DRIFTS, reason="fails", actual=word, cause=None, root=root)
        for word in words
    ]
    return coded(leaf, np.array([words[value] for value in values], np.int32), outcomes)


def _values(name: str, checker: Checker, planned: PlannedOn) -> list[str] | None:
    table = checker.snapshot.meetings
    assert table is not None
    if name == "kind":
        return None if table.kind is None else [MEETING_KINDS[kind] for kind in planned.kinds.tolist()]
    if name == "recurring":
        if table.recurring is None:
            return None
        return ["on" if again else "off" for again in planned.recurring.tolist()]
    if name == "days-ahead":  # of a recurring one that has begun the next may be today
        ahead = np.maximum(planned.starts - checker.snapshot.taken_at, 0) // DAY
        return [str(days) for days in ahead.tolist()]
    if table.invitees is None:
        return None
    return [str(many) for many in planned.invited_count(name == "invitees-from-outside").tolist()]
