"""The fewest changes that mend, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.mend.mending import MadeEdit, MendingResult, batches
from ...core.mend.order import NO_ORDER, NOT_FOUND, SAFE
from ...core.mend.sign_in_side import BREAK_GLASS, LOCK_OUT, RulePlan
from ...core.words.plural import plural
from ..page import Page, about_snapshot
from ..section import COUNT, WHOLE, Cell, Column, Section, listed, some
from ..titles import quoted_value_of, title_of
from .change_rehearsal_page import invitations
from .holes import describe
from .mending import MendAnswer, Suggested
from .values_section import values_section

_NO_ORDER = {
    NO_ORDER: "There is no order of the edits in which no step harms anyone: make them together.",
    NOT_FOUND: "No harmless order of the edits was found: make them together.",
}
_UNDO = {"nobody": "nothing: it is pinned", "people": "the people it reaches", "settings": "a setting below it"}


def mended_page(answer: MendAnswer, most: int) -> Page:
    """Return first how much so few changes do, then each of them, then what they do not do."""
    return Page(
        first_line(answer.mending),
        tuple(_details(answer)),
        tuple(_sections(answer, most)),
        about_snapshot(answer.mending.snapshot),
        labelled=tuple(_labelled(answer)),
        below=tuple(_below(answer)),
    )


def first_line(mending: MendingResult) -> str:
    """Return how many edits end how many of the findings, and how sure that is."""
    if not mending.drifting:
        return "Nothing drifts, so there is nothing to mend."
    if not mending.many and mending.limit is None:
        why = "none of it comes from a setting" if not mending.mendable else "nothing that may be set ends any of it"
        return f"{plural(mending.drifting, 'verdict drifts', 'verdicts drift')}, and {why}."
    verb = "ends" if mending.many == 1 else "end"
    said = f"{plural(mending.many, 'edit')} {verb} {mending.ended:,} of {plural(mending.drifting, 'finding')}"
    if mending.limit is not None:
        return f"{said}, of at most {mending.limit:,} edits."
    return f"{said}: {mending.proof}."


def _details(answer: MendAnswer) -> Iterator[str]:
    """Yield the sentences below the first line: who is cleared, what changes."""
    mending = answer.mending
    if mending.many:
        freed = plural(len(mending.freed), "person then drifts", "people then drift")
        yield f"{freed} from nothing any more (--show people); no one is worse off (judged again by a whole check)."
        verb, without = "changes" if mending.touched == 1 else "change", mending.without or "none"
        how = " (--show values)" if mending.without else ""
        yield (
            f"{plural(mending.touched, 'value')} of people {verb}, {without} of them of people with nothing to mend "
            f"there{how}."
        )


def _labelled(answer: MendAnswer) -> Iterator[tuple[str, str]]:
    """Yield what to look out for, and what is not mended."""
    mending = answer.mending
    if mending.many and mending.order != SAFE:
        yield "order", _NO_ORDER[mending.order]
    if mending.weaker:
        people = len({each.person for each in mending.weaker})
        values = plural(len(mending.weaker), "value")
        yield "weaker", f"{values} of {plural(people, 'person', 'people')}, still good enough (--show weaker)"
    if mending.many and mending.comparison is not None:
        waiting = invitations([(each, each.waiting) for each in mending.comparison.meetings])
        turned = invitations([(each, each.turned_away) for each in mending.comparison.meetings])
        if waiting or turned:
            yield "meetings", f"{waiting or 'no one'} newly wait, {turned or 'no one'} newly turned away"
    if mending.left:
        of = f"of the {mending.mendable:,} that come from settings"
        yield "left", f"{plural(mending.left, 'finding')} {of} (--show left)"
    not_settings = mending.drifting - mending.ended - mending.left
    if not_settings > 0:
        comes = plural(not_settings, "finding comes", "findings come")
        yield "other", f"{comes} from no setting (--show tasks, --show sign-in)"


def _below(answer: MendAnswer) -> Iterator[str]:
    """Yield what to do next."""
    if answer.written:
        yield f"Written to {answer.written}; try it with usher-gate rehearse --changes {answer.written}."
    elif answer.mending.many:
        yield "Next: usher-gate mend --write plan.yaml, then usher-gate rehearse --changes plan.yaml"


def _sections(answer: MendAnswer, most: int) -> Iterator[Section]:
    """Yield the tables: edits in order, batches, what is not proven, values, what is not mended."""
    mending = answer.mending
    if mending.many:
        yield listed(
            "edits",
            "Edits, in the order of making them",
            (
                Column("edit", COUNT),
                Column("at", WHOLE),
                Column("what"),
                Column("ends", COUNT),
                Column("values", COUNT),
                Column("fine before", COUNT, 1),
                Column("can be overridden by", spare=2),
            ),
            [*_membership_rows(mending), *_edit_rows(mending)],
            most,
        )
    yield from _doubtful(mending)
    for word, title, values in (
        ("weaker", "Values that get weaker", mending.weaker),
        ("values", "Values that change for people with nothing to mend there", mending.affected),
    ):
        if values:
            yield values_section(word, title, values, most)
    yield from _not_mended(answer, most)
    cleared = [(login, name) for name, login in mending.freed]
    yield listed(
        "people", "Who then drifts from nothing any more", (Column("login", WHOLE), Column("id", WHOLE)), cleared, most
    )


def _doubtful(mending: MendingResult) -> Iterator[Section]:
    """Yield the tables of edits that are made in batches, and of parts of the plan that are not proven."""
    sizes = [*batches(mending.edits, mending.snapshot)]
    if sizes:
        made = [(service, title_of(control), many, size, -(-many // size)) for service, control, many, size in sizes]
        yield Section(
            "In batches",
            (
                Column("service"),
                Column("control", WHOLE),
                Column("edits at people", COUNT),
                Column("at once", COUNT),
                Column("batches", COUNT),
            ),
            tuple(made),
            word="edits",
        )
    unsure = [part for part in mending.parts if part.found.gap]
    if unsure and mending.edits:
        made_rows = [
            (
                part.found.judging.service.id,
                some([title_of(control) for control in part.found.judging.controls]),
                len(part.found.weighed.plan),
                part.found.proof,
            )
            for part in unsure
        ]
        yield Section(
            "Not proven",
            (Column("service"), Column("controls"), Column("edits", COUNT), Column("how sure")),
            tuple(made_rows),
            word="edits",
        )


def _membership_rows(mending: MendingResult) -> Iterator[tuple[Cell, ...]]:
    for number, one in enumerate(mending.memberships, 1):
        also = len(one.also)
        what = f"take {one.login} out"
        more = [f"changes {plural(also, 'other value')} of theirs"] if also else []
        more += [f"access rules {some(list(one.rules), 2)} then meet them differently"] if one.rules else []
        what += f" ({'; '.join(more)})" if more else ""
        yield number, f"group:{one.group}", what, one.ended, None, also or None, "the group's owners"


def _edit_rows(mending: MendingResult) -> Iterator[tuple[Cell, ...]]:
    """Yield one row an edit; those at several places of one kind that say the same are one row."""
    folded: dict[tuple[object, ...], list[tuple[int, MadeEdit]]] = {}
    for number, edit in enumerate(mending.edits, 1 + len(mending.memberships)):
        level = edit.edit_target.scope.partition(":")[0]
        folded.setdefault(
            (edit.edit_target.service, edit.edit_target.control, level, edit.given.value, edit.given.pinned), []
        ).append((number, edit))
    for alike in folded.values():
        number, first = alike[0]
        more = f" and {len(alike) - 1:,} more that say the same" if len(alike) > 1 else ""
        yield (
            number,
            f"{first.edit_target.scope}{more}",
            f"{first.edit_target.service}: {in_words(first)}",
            sum(edit.ended for _, edit in alike),
            sum(edit.touched for _, edit in alike),
            sum(edit.without for _, edit in alike) or None,
            _undone(first),
        )


def _undone(edit: MadeEdit) -> str:
    if edit.undo == "settings" and edit.edit_target.scope.startswith("person:") and edit.given.value is not None:
        return "a meeting's own"
    return _UNDO[edit.undo]


def in_words(edit: MadeEdit) -> str:
    """Return what an edit does."""
    control = edit.edit_target.control
    if edit.given.value is None:
        return f"remove the setting '{title_of(control)}'"
    pinned = ", pinned" if edit.given.pinned else ""
    return f"set {title_of(control)} to {quoted_value_of(control, edit.given.value)}{pinned}"


def _not_mended(answer: MendAnswer, most: int) -> Iterator[Section]:
    """Yield the tables of what no edit mends: findings that are left, people's own tasks, the sign-in side."""
    mending = answer.mending
    if mending.left_over:
        grouped: dict[tuple[str, str, str], list[str]] = {}
        for each in mending.left_over:
            name = (
                _login(answer, each.subject[1])
                if each.subject[0] == "person"
                else f"{each.subject[0]} {each.subject[1]}"
            )
            grouped.setdefault((each.rule, each.service, each.because), []).append(name)
        made = [
            (rule, service, len(names), some(names, 2), because)
            for (rule, service, because), names in sorted(grouped.items(), key=lambda one: (-len(one[1]), one[0]))
        ]
        names = (
            Column("rule", WHOLE),
            Column("service"),
            Column("verdicts", COUNT),
            Column("whose", spare=1),
            Column("what prevents it"),
        )
        yield listed("left", "Not mended", names, made, most)
    if mending.tasks:
        tasks = [
            (
                task.rule,
                f"{task.title}: {task.mend}" if task.mend else task.title,
                task.people,
                some([unit or "in no unit" for unit, _ in task.units], 2),
            )
            for task in sorted(mending.tasks, key=lambda task: (-task.people, task.rule))
        ]
        columns = (Column("rule", WHOLE), Column("what to do"), Column("people", COUNT), Column("in units", spare=1))
        yield listed("tasks", "What people have to do themselves", columns, tasks, most)
    yield from _sign_in_side(answer, most)


def _login(answer: MendAnswer, name: str) -> str:
    people = answer.mending.snapshot.people
    found = people.ids.find(name)
    return people.logins.take(np.array(found[:1]))[0] if found else name


def _sign_in_side(answer: MendAnswer, most: int) -> Iterator[Section]:
    """Yield the best plan for each lock-out and each hole, or the reason why there is none."""
    rows = [*_lock_out_rows(answer), *_hole_rows(answer)]
    if rows:
        columns = (
            Column("rule", WHOLE),
            Column("lock-out or hole"),
            Column("edits", COUNT),
            Column("which"),
            Column("clears", COUNT),
            Column("who is harmed", spare=1),
        )
        title = "On the sign-in side: the fewest edits of access rules that end each lock-out and close each hole"
        yield listed("sign-in", title, columns, rows, most)


def _lock_out_rows(answer: MendAnswer) -> Iterator[tuple[Cell, ...]]:
    """Return one row for accounts with the same resources and the same rules to exclude them from."""
    groups: dict[tuple[object, ...], list[Suggested]] = {}
    for suggested in answer.suggested:
        repair = suggested.repair
        if repair.problem == LOCK_OUT:
            plan = suggested.plans[0][0] if suggested.plans else None
            rules = () if plan is None else (*(rule.id for rule in plan.edited), *(rule for rule, _ in plan.opened))
            key = repair.kind, repair.resources, rules, repair.because
            groups.setdefault(key, []).append(suggested)
    for group in groups.values():
        repair = group[0].repair
        names = some([_login(answer, suggested.repair.account) for suggested in group], 2)
        kind = "break-glass account" if repair.kind == BREAK_GLASS else repair.kind
        problem = f"locked out of {' and '.join(repair.resources)}: {kind} {names}"
        if not group[0].plans:
            yield None, problem, None, f"none: {repair.because}", None, None
            continue
        plan, stopped = group[0].plans[0]
        edits = plan.edits
        if len(group) > 1:
            edits = tuple(f"{rule.id}: also exclude each of them" for rule in plan.edited)
        opened = f" (which opens {some([rule for rule, _ in plan.opened])} to it)" if plan.opened else ""
        yield None, problem, len(edits), "; ".join(edits) + opened, None, _hurt(plan, stopped)


def _hole_rows(answer: MendAnswer) -> Iterator[tuple[Cell, ...]]:
    for suggested in answer.suggested:
        repair = suggested.repair
        if repair.hole is None:
            continue
        problem = describe(repair.hole)
        if not suggested.plans:
            yield repair.rule, problem, None, f"none: {repair.because}", None, None
            continue
        plan, stopped = suggested.plans[0]
        edits = "; ".join(plan.edits)
        edits = f"({edits}: {plan.objection})" if plan.objection else edits
        cleared = plan.drifting - plan.drifting_then
        yield repair.rule, problem, len(plan.edits), edits, cleared, _hurt(plan, stopped)


def _hurt(plan: RulePlan, stopped: tuple[int, int] | None) -> str:
    """Return the past sign-ins that a plan would have stopped, and how many people get stuck until they register
    something.
    """
    parts = []
    if stopped is not None:
        sign_ins, people = stopped
        counted = f"{plural(sign_ins, 'past sign-in')} of {plural(people, 'person', 'people')}"
        parts.append(counted if sign_ins else "no past sign-in")
    if plan.stranded:
        parts.append(f"{plural(len(plan.stranded), 'person', 'people')} stuck until they register")
    return "; ".join(parts)
