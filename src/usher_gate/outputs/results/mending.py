"""The fewest changes that mend, and what is suggested on the sign-in side."""

from __future__ import annotations

from collections.abc import Iterator
from operator import attrgetter
from typing import Any

from ...core.mend.mending import MadeEdit, Membership, MendingResult
from ...core.mend.order import ORDERS, SAFE
from ...core.mend.sign_in_side import Repair, RulePlan
from ...core.organisation.access_rules import AccessRule
from ...core.words.record import record
from ...files.written.snapshot_out import rule_object
from ..fields import (
    ABSENT,
    COUNT,
    NOTES,
    TEXT,
    TEXTS,
    TRUTH,
    WORD,
    Field,
    Type,
    either,
    enum,
    list_of,
    maybe,
    nullable,
    object_of,
    reader_of,
)
from ..writers import Result, head_of
from .common import LOCKED_KINDS, VALUE_MOVED
from .holes import describe


@record
class Suggested:
    """Describes what ends a lock-out or closes a hole.

    The best plans, each with how many sign-ins of the log that got in it would have denied or left stuck, and of how
    many people (None: there is no log, or no time to read it).
    """

    repair: Repair
    plans: tuple[tuple[RulePlan, tuple[int, int] | None], ...]


@record
class MendAnswer:
    """The plan, and what is suggested on the sign-in side; `written` is where the plan was written ("" for nowhere)."""

    mending: MendingResult
    suggested: tuple[Suggested, ...]
    written: str
    notes: tuple[str, ...]


# Edits, as they are written in a file of changes, with what each does.
_TARGET = (
    Field("service", TEXT, "The service.", "edit_target.service"),
    Field("control", TEXT, "The control.", "edit_target.control"),
    Field("scope", TEXT, "Where.", "edit_target.scope"),
)
_SET = (
    *_TARGET,
    Field("value", WORD, "The value that is to be set.", "given.value"),
    Field("pinned", TRUTH, "True if nothing below may override it.", "given.pinned"),
)
_REMOVAL = (
    Field("group", TEXT, "The group."),
    Field("remove", TEXTS, "Who is taken out of it (id).", lambda one: [one.person]),
)
_ENDED = Field("ended", COUNT, "How many findings would be there again without it.")
_FIGURES = (
    _ENDED,
    Field("touched", COUNT, "How many values change because of it."),
    Field("without_need", COUNT, "How many of them are of people with nothing to mend there.", "without"),
    Field("component", COUNT, "The part of the problem that it belongs to."),
    Field("people", COUNT, "How many active people are at its place."),
    Field("undone_by", enum(("nobody", "people", "settings")), "Who can override it.", "undo"),
)
_SET_EDIT = (Field("set", object_of(_SET), "A setting that is made.", lambda edit: edit), *_FIGURES)
_UNSET_EDIT = (Field("unset", object_of(_TARGET), "A setting that is taken away.", lambda edit: edit), *_FIGURES)
_MEMBERSHIP = (
    Field("members", object_of(_REMOVAL), "A membership that ends.", lambda one: one),
    _ENDED,
    Field("also", list_of(object_of(VALUE_MOVED)), "Values of the person that change with it."),
    Field("access_rules", TEXTS, "Access rules that then include or exclude the person.", "rules"),
)
_read_set, _read_unset = reader_of(_SET_EDIT[:1]), reader_of(_UNSET_EDIT[:1])
_read_removal = reader_of(_MEMBERSHIP[:1])
_read_set_edit, _read_unset_edit, _read_membership = map(reader_of, (_SET_EDIT, _UNSET_EDIT, _MEMBERSHIP))


def edit_object(edit: MadeEdit) -> dict[str, Any]:
    """Return an edit as it is written in a file of changes."""
    return _read_unset(edit) if edit.given.value is None else _read_set(edit)


def membership_object(one: Membership) -> dict[str, Any]:
    """Return a removal from a group as it is written in a file of changes."""
    return _read_removal(one)


def _edit(edit: MadeEdit | Membership) -> dict[str, Any]:
    if isinstance(edit, Membership):
        return _read_membership(edit)
    return _read_unset_edit(edit) if edit.given.value is None else _read_set_edit(edit)


_EDIT = either(tuple(map(object_of, (_SET_EDIT, _UNSET_EDIT, _MEMBERSHIP))), _edit)

# The sign-in side: a row for each plan, or one for what no plan ends.
_Row = tuple[Repair, RulePlan | None, tuple[int, int] | None]


def _closings(answer: MendAnswer) -> Iterator[_Row]:
    for each in answer.suggested:
        yield from ((each.repair, plan, stopped) for plan, stopped in each.plans or ((None, None),))


def _change_of(rule: AccessRule, plan: RulePlan) -> dict[str, Any]:
    """Return a changed access rule as it is written in a file of changes."""
    if plan.edits == (f"enforce {rule.id}",):
        return {"access_rule": {"id": rule.id, "mode": "enforce"}}
    return {"access_rule": {"put": rule_object(rule)}}


def _of_plan(name: str, type_: Type, read: Any, says: str) -> Field:
    """Return a field that is left out where there is no plan."""
    return Field(name, type_, says, lambda row: ABSENT if row[1] is None else read(row[1]), optional=True)


def _objection(row: _Row) -> str:
    return (row[1].objection if row[1] is not None else "") or row[0].because


_ACCOUNT = (
    Field("id", TEXT, "The account (id).", "account"),
    Field("kind", LOCKED_KINDS, "Which kind it is."),
    Field("resources", TEXTS, "The resources from which it is locked out."),
)
_LOCKED = (
    Field("resource", TEXT, "The resource.", "0"),
    Field("of", LOCKED_KINDS, "Which kind of account.", "1"),
    Field("person", TEXT, "Who (id).", "2"),
)
_OPENED = (
    Field("rule", TEXT, "The rule that asks for a proof.", "0"),
    Field("people", TEXTS, "Who newly drifts from it (ids).", "1"),
)
_DRIFTING = (
    Field("before", COUNT, "How many findings there are.", "drifting"),
    Field("after", COUNT, "How many there would be.", "drifting_then"),
)
_STOPPED = (
    Field("stopped", COUNT, "How many past sign-ins would be stopped.", "0"),
    Field("people", COUNT, "Of how many people.", "1"),
)
_CLOSING = (
    Field("of", enum(("hole", "lock-out")), "What is to be ended.", "0.problem"),
    Field("rule", maybe(TEXT), "The rule with the hole.", "0.rule"),
    Field(
        "hole",
        nullable(TEXT),
        "The hole, in words.",
        lambda row: None if row[0].hole is None else describe(row[0].hole),
    ),
    Field(
        "account",
        nullable(object_of(_ACCOUNT)),
        "The account that is locked out.",
        lambda row: row[0] if row[0].account else None,
    ),
    Field("fewest", nullable(COUNT), "How many edits are enough at least.", "0.fewest"),
    Field(
        "what", nullable(TEXT), "The edits, in words.", lambda row: None if row[1] is None else "; ".join(row[1].edits)
    ),
    _of_plan("edits", TEXTS, attrgetter("edits"), "The edits, one by one."),
    Field(
        "changes",
        list_of(Type({"type": "object"})),
        "The edits, for a file of changes.",
        lambda row: [] if row[1] is None else [_change_of(rule, row[1]) for rule in row[1].edited],
    ),
    _of_plan("drifting", object_of(_DRIFTING), lambda plan: plan, "Findings before and after."),
    _of_plan("locked_out", list_of(object_of(_LOCKED)), attrgetter("locked_out"), "Who would be locked out."),
    _of_plan(
        "stranded", TEXTS, attrgetter("stranded"), "Who would have no way in until they register something (ids)."
    ),
    _of_plan("opened", list_of(object_of(_OPENED)), attrgetter("opened"), "Holes that would open."),
    Field(
        "sign_ins",
        nullable(object_of(_STOPPED)),
        "Past sign-ins that would be stopped; null without a log.",
        lambda row: ABSENT if row[1] is None else row[2],
        optional=True,
    ),
    Field(
        "recommended",
        TRUTH,
        "True if nothing speaks against it.",
        lambda row: row[1] is not None and not row[1].objection,
    ),
    Field("because", WORD, "What speaks against it, or why nothing ends it.", _objection),
)
_PLAN = (
    Field("edits", COUNT, "How many edits the plan has.", "many"),
    Field("ended", COUNT, "How many findings it ends."),
    Field("left", COUNT, "How many findings that come from settings are left."),
    Field("freed", COUNT, "How many people then drift from nothing any more.", lambda mending: len(mending.freed)),
    Field("touched", COUNT, "How many values of people change."),
    Field("without_need", COUNT, "How many of them are of people with nothing to mend there.", "without"),
    Field("proof", TEXT, "How sure it is that there is no better plan."),
    Field("gap", COUNT, "By how many edits a better plan could be shorter."),
    Field("drifting", COUNT, "How many findings there are."),
    Field("mendable", COUNT, "How many of them come from settings."),
    Field(
        "steps_hurt_nobody", TRUTH, "True if no step hurts anyone in this order.", lambda mending: mending.order == SAFE
    ),
    Field("order", enum(ORDERS), "Whether there is such an order."),
)
_COMPONENT = (
    Field("id", COUNT, "The number of the part.", "number"),
    Field("service", TEXT, "The service.", "found.judging.service.id"),
    Field("controls", TEXTS, "The controls that are mended together.", "found.judging.controls"),
    Field("edits", COUNT, "How many edits.", lambda part: len(part.found.weighed.plan)),
    Field("left", COUNT, "How many findings are left.", "found.weighed.left"),
    Field("proof", TEXT, "How sure it is.", "found.proof"),
    Field("gap", COUNT, "By how many edits a better plan could be shorter.", "found.gap"),
    Field(
        "greedy", nullable(COUNT), "How many edits the quick search needed; null if it found no plan.", "found.greedy"
    ),
)
_LEFT = (
    Field("rule", TEXT, "The rule."),
    Field("service", TEXT, "The service."),
    Field(
        "subject",
        object_of(
            (
                Field("type", enum(("person", "meeting", "organisation")), "What kind of subject it is.", "0"),
                Field("id", TEXT, "Its id.", "1"),
            )
        ),
        "Whose finding it is.",
    ),
    Field("because", TEXT, "Why no edit ends it."),
    Field("against", WORD, "What prevents it."),
)
_UNIT = (
    Field("unit", maybe(TEXT), "The unit; null for people in none.", "0"),
    Field("people", TEXTS, "Who (ids).", "1"),
)
_TASK = (
    Field("rule", TEXT, "The rule."),
    Field("mend", WORD, "What people have to do."),
    Field("units", list_of(object_of(_UNIT)), "Who has to, by unit."),
)
MENDING = Result(
    schema="mending/1",
    says="The fewest changes that end findings and hurt no one.",
    lines=((Field("plan", object_of(_PLAN), "The plan in figures.", "mending"),),),
    lists=(
        Field(
            "edits",
            list_of(_EDIT),
            "Each edit, in the order of making them.",
            lambda answer: [*answer.mending.memberships, *answer.mending.edits],
        ),
        Field(
            "components",
            list_of(object_of(_COMPONENT)),
            "The parts of the problem, each mended alone.",
            "mending.parts",
        ),
        Field(
            "affected",
            list_of(object_of(VALUE_MOVED)),
            "Values that change for people with nothing to mend there.",
            "mending.affected",
        ),
        Field("weaker", list_of(object_of(VALUE_MOVED)), "Values that get weaker.", "mending.weaker"),
        Field("left", list_of(object_of(_LEFT)), "Findings that no edit ends.", "mending.left_over"),
        Field("tasks", list_of(object_of(_TASK)), "What people have to do themselves.", "mending.tasks"),
        Field("sign_in_side", list_of(object_of(_CLOSING)), "What would close holes and end lock-outs.", _closings),
        NOTES,
    ),
    head=lambda answer: head_of(answer.mending.snapshot),
)
