"""Judging one leaf about doors on one service."""

from __future__ import annotations

import numpy as np

from ..door.asking import FAILS, NOT_KNOWN, OPENABLE, DoorQuestion, DoorVerdicts, ask
from ..door.hosts import Hosts
from ..door.roots import DOOR
from ..door.visitors import OUTCOMES, kinds_of, ways_of
from ..organisation.columns import MISSING, Bools, Ints
from ..settings.effective import Cause
from .codes import DRIFTS, LOOSE, MEETS, UNKNOWN
from .condition import Leaf
from .outcome import Judged, Outcome, Root, coded

_VERDICTS = {FAILS: (DRIFTS, "open-door"), NOT_KNOWN: (UNKNOWN, "no-value"), OPENABLE: (LOOSE, "changeable")}


def question_of(leaf: Leaf, pinned: str, hosts: Hosts) -> DoorQuestion:
    """Return what a leaf asks of the doors of a service."""
    assert leaf.visitor_selection is not None and leaf.comparison is not None
    enters, waits, refused = (leaf.comparison.passes(word) for word in OUTCOMES[:3])
    asked = leaf.visitor_selection.visits(kinds_of(hosts.service), ways_of(hosts.service))
    return DoorQuestion(asked, (enters, waits, refused), pinned)


def judge_door(leaf: Leaf, pinned: str, hosts: Hosts, starting: Bools) -> Judged:
    """Judge everyone's doors (`hosts` are all active people); people who may start no meeting meet the rule."""
    question = question_of(leaf, pinned, hosts)
    answer = ask(hosts.panel, question)
    codes = np.zeros(len(hosts.people), np.int32)
    outcomes = [Outcome(MEETS, "")]
    # Hosts with the same answer share one outcome: join what decides into one number, and group by it.
    key = (
        (answer.state.astype(np.int64) * (len(question.visits) + 1) + answer.visit + 1) * (len(OUTCOMES) + 1)
        + answer.met
        + 1
    )
    key = key * (len(answer.names) + 1) + answer.control + 1
    _, first, group = np.unique(key, return_index=True, return_inverse=True)
    group_of = group.reshape(-1)[hosts.class_of]
    for number, row in enumerate(first.tolist()):
        if answer.state[row] == 0:
            continue
        # Within a group, one outcome for each setting that causes it.
        people = np.flatnonzero((group_of == number) & starting)
        name = control_of(answer, row)
        places = hosts.places(name)[people] if name != DOOR else np.zeros(len(people), np.int32)
        found, which = np.unique(places, return_inverse=True)
        made = [
            outcome_of_row(question, answer, row, hosts.service.id, _cause(hosts, name, place))
            for place in found.tolist()
        ]
        codes[people] = (len(outcomes) + which.reshape(-1)).astype(np.int32)
        outcomes += made
    return coded(leaf, codes, outcomes)


def control_of(answer: DoorVerdicts, row: int) -> str:
    """Return the control to look at, at one row; `door` for none."""
    return DOOR if answer.control[row] == MISSING else answer.names[int(answer.control[row])]


def _cause(hosts: Hosts, control: str, place: int) -> Cause | None:
    if control == DOOR:
        return None
    cause = hosts.effective(control).cause(place)
    return cause if cause.scope is not None else None


def outcome_of_row(
    question: DoorQuestion, answer: DoorVerdicts, row: int, service: str, cause: Cause | None
) -> Outcome:
    """Return what is said of one row that is not as it should be. `cause` is where the control to look at is set."""
    state = int(answer.state[row])
    verdict, reason = _VERDICTS[state]
    visit, met = question.visits[int(answer.visit[row])], OUTCOMES[int(answer.met[row])]
    name = control_of(answer, row)
    scope, value = (cause.scope, cause.value) if cause else (None, None)
    root = Root(service, name, scope, value) if state == FAILS else None
    return Outcome(
        verdict=verdict,
        reason=reason,
        actual=f"{met}: {visit.text}",
        cause=cause if state != NOT_KNOWN else None,
        root=root,
        hole=None,
        visit=visit,
        met=met,
    )


def rooted_rows(leaf: Leaf, pinned: str, hosts: Hosts, rows: Ints, control: str, value: str) -> Bools:
    """Return which classes of hosts would still fail by a control if it had another value."""
    answer = ask(hosts.panel.take(rows).with_value(control, value), question_of(leaf, pinned, hosts))
    mine = [name == control for name in answer.names]
    still: Bools = (answer.state == FAILS) & np.array([*mine, False], bool)[answer.control]
    return still
