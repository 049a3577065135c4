"""The fewest changes that mend, as JSON (form mending/1)."""

from __future__ import annotations

from typing import Any, TextIO

from ...core.mend.mending import MadeEdit, Mending, Part
from ...core.mend.order import SAFE
from ...core.mend.tasks import Task
from ...files.written.snapshot_out import rule_object
from ..changed.values import value_object
from ..holes.answer import describe
from ..json_text import text, write_form
from ..look import Look
from .answer import MendAnswer, Suggested


def edit_object(edit: MadeEdit) -> dict[str, Any]:
    """An edit as it is written in a file of changes."""
    place = {"service": edit.spot.service, "control": edit.spot.control, "scope": edit.spot.scope}
    if edit.given.value is None:
        return {"unset": place}
    return {"set": {**place, "value": edit.given.value, "pinned": edit.given.pinned}}


def _edit(edit: MadeEdit) -> dict[str, Any]:
    return {
        **edit_object(edit),
        "ended": edit.ended,
        "touched": edit.touched,
        "without_need": edit.without,
        "component": edit.component,
        "people": edit.people,
        "undone_by": edit.undo,
    }


def _component(part: Part) -> dict[str, Any]:
    found = part.found
    return {
        "id": part.number,
        "service": found.judging.service.id,
        "controls": list(found.judging.controls),
        "edits": len(found.weighed.plan),
        "left": found.weighed.left,
        "proof": found.proof,
        "gap": found.gap,
        "greedy": found.greedy,
    }


def _task(task: Task) -> dict[str, Any]:
    return {
        "rule": task.rule,
        "mend": task.mend,
        "units": [{"unit": unit or None, "people": list(people)} for unit, people in task.units],
    }


def change_of(suggested: Suggested) -> dict[str, Any]:
    """The edit of an access rule as it is written in a file of changes."""
    rule = suggested.suggestion.edited
    if suggested.suggestion.what == f"enforce {rule.id}":
        return {"access-rule": {"id": rule.id, "mode": "enforce"}}
    return {"access-rule": {"put": rule_object(rule)}}


def _suggested(each: Suggested) -> dict[str, Any]:
    one = each.suggestion
    return {
        "rule": one.rule,
        "hole": describe(one.hole),
        "what": one.what,
        "change": change_of(each),
        "drifting": {"before": one.drifting, "after": one.drifting_then},
        "locked_out": [
            {"resource": resource, "of": kind, "person": person} for resource, kind, person in one.locked_out
        ],
        "stranded": list(one.stranded),
        "sign_ins": None if each.stopped is None else {"stopped": each.stopped[0], "people": each.stopped[1]},
        "recommended": each.recommended,
        "because": each.because,
    }


def plan_object(mending: Mending) -> dict[str, Any]:
    """The plan in figures."""
    return {
        "edits": len(mending.edits),
        "ended": mending.ended,
        "left": mending.left,
        "freed": mending.freed,
        "touched": mending.touched,
        "without_need": mending.without,
        "proof": mending.proof,
        "gap": mending.gap,
        "drifting": mending.drifting,
        "mendable": mending.mendable,
        "steps_hurt_nobody": mending.order == SAFE,
        "order": mending.order,
    }


def write_mended_json(answer: MendAnswer, stream: TextIO, _look: Look) -> None:
    """Writes the whole answer."""
    mending = answer.mending
    left = [
        {
            "rule": each.rule,
            "service": each.service,
            "subject": {"type": each.subject[0], "id": each.subject[1]},
            "because": each.because,
            "against": each.against,
        }
        for each in mending.left_over
    ]
    lists = (
        ("edits", [text(_edit(edit)) for edit in mending.edits]),
        ("components", [text(_component(part)) for part in mending.parts]),
        ("affected", [text(value_object(each)) for each in mending.affected]),
        ("weaker", [text(value_object(each)) for each in mending.weaker]),
        ("left", [text(each) for each in left]),
        ("tasks", [text(_task(task)) for task in mending.tasks]),
        ("sign_in_side", [text(_suggested(each)) for each in answer.suggested]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "mending/1", mending.snapshot, [{"plan": plan_object(mending)}], lists)
