"""The fewest changes that mend, as JSON (form mending/1)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TextIO

from ...core.mend.mending import MadeEdit, Membership, MendingPart, MendingResult
from ...core.mend.order import SAFE
from ...core.mend.sign_in_side import RulePlan
from ...core.mend.tasks import Task
from ...core.organisation.access_rules import AccessRule
from ...files.written.snapshot_out import rule_object
from ..changed.values import value_object
from ..holes.answer import describe
from ..json_text import text, write_form
from ..render_options import RenderOptions
from .answer import MendAnswer, Suggested


def edit_object(edit: MadeEdit) -> dict[str, Any]:
    """Return an edit as it is written in a file of changes."""
    place = {"service": edit.edit_target.service, "control": edit.edit_target.control, "scope": edit.edit_target.scope}
    if edit.given.value is None:
        return {"unset": place}
    return {"set": {**place, "value": edit.given.value, "pinned": edit.given.pinned}}


def membership_object(one: Membership) -> dict[str, Any]:
    """Someone taken out of a group, as it is written in a file of changes."""
    return {"members": {"group": one.group, "remove": [one.person]}}


def _membership(one: Membership) -> dict[str, Any]:
    also = [value_object(each) for each in one.also]
    return {**membership_object(one), "ended": one.ended, "also": also, "access_rules": list(one.rules)}


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


def _component(part: MendingPart) -> dict[str, Any]:
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


def _change_of(rule: AccessRule, plan: RulePlan) -> dict[str, Any]:
    """Return a changed access rule as it is written in a file of changes."""
    if plan.edits == (f"enforce {rule.id}",):
        return {"access_rule": {"id": rule.id, "mode": "enforce"}}
    return {"access_rule": {"put": rule_object(rule)}}


def _suggested(each: Suggested) -> Iterator[dict[str, Any]]:
    """Yield a row for each plan; one without a plan for what none ends."""
    one = each.repair
    what = {
        "of": one.problem,
        "rule": one.rule or None,
        "hole": None if one.hole is None else describe(one.hole),
        "account": {"id": one.account, "kind": one.kind, "resources": list(one.resources)} if one.account else None,
        "fewest": one.fewest,
    }
    if not each.plans:
        yield {**what, "what": None, "changes": [], "recommended": False, "because": one.because}
    for plan, stopped in each.plans:
        yield {
            **what,
            "what": "; ".join(plan.edits),
            "edits": list(plan.edits),
            "changes": [_change_of(rule, plan) for rule in plan.edited],
            "drifting": {"before": plan.drifting, "after": plan.drifting_then},
            "locked_out": [
                {"resource": resource, "of": kind, "person": person} for resource, kind, person in plan.locked_out
            ],
            "stranded": list(plan.stranded),
            "opened": [{"rule": rule, "people": list(people)} for rule, people in plan.opened],
            "sign_ins": None if stopped is None else {"stopped": stopped[0], "people": stopped[1]},
            "recommended": not plan.objection,
            "because": plan.objection or one.because,
        }


def plan_object(mending: MendingResult) -> dict[str, Any]:
    """Return the plan in figures."""
    return {
        "edits": mending.many,
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


def write_mended_json(answer: MendAnswer, stream: TextIO, _look: RenderOptions) -> None:
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
        ("edits", [*map(text, map(_membership, mending.memberships)), *map(text, map(_edit, mending.edits))]),
        ("components", [text(_component(part)) for part in mending.parts]),
        ("affected", [text(value_object(each)) for each in mending.affected]),
        ("weaker", [text(value_object(each)) for each in mending.weaker]),
        ("left", [text(each) for each in left]),
        ("tasks", [text(_task(task)) for task in mending.tasks]),
        ("sign_in_side", [text(row) for each in answer.suggested for row in _suggested(each)]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "mending/1", mending.snapshot, [{"plan": plan_object(mending)}], lists)
