"""The fewest changes that mend, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ...core.mend.mending import MadeEdit, Mending, batches
from ...core.mend.order import NO_ORDER, NOT_FOUND, SAFE
from ...core.mend.sign_in_side import RulePlan
from ...core.words.compare import shown
from ..changed.pages import invitations
from ..changed.values import values_section
from ..holes.answer import describe
from ..page import Page
from ..section import COUNT, WHOLE, Cell, Column, Section, count, cut, some
from .answer import MendAnswer, Suggested

_NO_ORDER = {
    NO_ORDER: "There is no order of the edits in which no step hurts anybody: make them together.",
    NOT_FOUND: "No harmless order of the edits was found: make them together.",
}
_SHOW_ALL = "--rows 0, or --format json"
_UNDO = {"nobody": "nobody: it is pinned", "people": "whoever it reaches", "settings": "a setting below it"}


def mended_page(answer: MendAnswer, most: int) -> Page:
    """First how much so few changes do, then each of them, then what they do not do."""
    return Page(first_line(answer.mending), tuple(_details(answer)), tuple(_sections(answer, most)))


def first_line(mending: Mending) -> str:
    """How many edits end how many of the drifts, and how sure that is."""
    if not mending.drifting:
        return "Nothing drifts, so there is nothing to mend."
    if not mending.many and mending.limit is None:
        why = "none of it comes from a setting" if not mending.mendable else "nothing that may be set ends any of it"
        return f"{count(mending.drifting, 'verdict drifts', 'verdicts drift')}, and {why}."
    verb = "ends" if mending.many == 1 else "end"
    said = f"{count(mending.many, 'edit')} {verb} {mending.ended:,} of {count(mending.drifting, 'drift')}"
    if mending.limit is not None:
        return f"{said}, of at most {mending.limit:,} edits."
    return f"{said}: {mending.proof}."


def _details(answer: MendAnswer) -> Iterator[str]:
    mending = answer.mending
    if mending.many:
        freed = count(mending.freed, "person then drifts", "people then drift")
        yield f"{freed} from nothing any more; nobody is worse off (judged again by a whole check)."
        verb, without = "changes" if mending.touched == 1 else "change", mending.without or "none"
        yield f"{count(mending.touched, 'value')} of people {verb}, {without} of them of people with nothing to mend there."
        if mending.order != SAFE:
            yield _NO_ORDER[mending.order]
        if mending.comparison is not None:
            waiting = invitations([(each, each.waiting) for each in mending.comparison.meetings])
            turned = invitations([(each, each.turned_away) for each in mending.comparison.meetings])
            if waiting or turned:
                yield f"At planned meetings, {waiting or 'nobody'} newly wait, {turned or 'nobody'} newly turned away."
    if mending.left:
        yield f"{count(mending.left, 'verdict is', 'verdicts are')} left of the {mending.mendable:,} that come from settings."
    unsettled = mending.drifting - mending.ended - mending.left
    if unsettled > 0:
        yield f"{count(unsettled, 'drift comes', 'drifts come')} from no setting: see what people and sign-in rules have to do."
    if answer.written:
        yield f"Written to {answer.written}; try it with usher-gate rehearse --changes {answer.written}."


def _sections(answer: MendAnswer, most: int) -> Iterator[Section]:
    mending = answer.mending
    if mending.many:
        rows, more = cut([*_membership_rows(mending), *_edit_rows(mending)], most, _SHOW_ALL)
        yield Section(
            "Edits, in the order of making them",
            (
                Column("edit", COUNT),
                Column("at", WHOLE),
                Column("what"),
                Column("ends", COUNT),
                Column("touches", COUNT),
                Column("without need", COUNT, 1),
                Column("undone by", spare=2),
            ),
            rows,
            more,
        )
    sizes = [*batches(mending.edits, mending.snapshot)]
    if sizes:
        made = [(service, control, many, size, -(-many // size)) for service, control, many, size in sizes]
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
        )
    unsure = [part for part in mending.parts if part.found.gap]
    if unsure and mending.edits:
        made_rows = [
            (
                part.found.judging.service.id,
                some(part.found.judging.controls),
                len(part.found.weighed.plan),
                part.found.proof,
            )
            for part in unsure
        ]
        yield Section(
            "Not proven",
            (Column("service"), Column("controls"), Column("edits", COUNT), Column("how sure")),
            tuple(made_rows),
        )
    for title, values in (
        ("Values that get weaker", mending.weaker),
        ("Values that change for people with nothing to mend there", mending.affected),
    ):
        if values:
            yield values_section(title, values, most)
    yield from _not_mended(answer, most)


def _membership_rows(mending: Mending) -> Iterator[tuple[Cell, ...]]:
    for number, one in enumerate(mending.memberships, 1):
        also = len(one.also)
        what = f"take {one.login} out"
        more = [f"changes {count(also, 'other value')} of theirs"] if also else []
        more += [f"access rules {some(list(one.rules), 2)} then meet them differently"] if one.rules else []
        what += f" ({'; '.join(more)})" if more else ""
        yield number, f"group:{one.group}", what, one.ended, None, also or None, "whoever fills the group"


def _edit_rows(mending: Mending) -> Iterator[tuple[Cell, ...]]:
    """One row an edit; those at several places of one kind that say the same are told together."""
    folded: dict[tuple[object, ...], list[tuple[int, MadeEdit]]] = {}
    for number, edit in enumerate(mending.edits, 1 + len(mending.memberships)):
        level = edit.spot.scope.partition(":")[0]
        folded.setdefault(
            (edit.spot.service, edit.spot.control, level, edit.given.value, edit.given.pinned), []
        ).append((number, edit))
    for alike in folded.values():
        number, first = alike[0]
        more = f" and {len(alike) - 1:,} more that say the same" if len(alike) > 1 else ""
        yield (
            number,
            f"{first.spot.scope}{more}",
            f"{first.spot.service}: {in_words(first)}",
            sum(edit.ended for _, edit in alike),
            sum(edit.touched for _, edit in alike),
            sum(edit.without for _, edit in alike) or None,
            _undone(first),
        )


def _undone(edit: MadeEdit) -> str:
    if edit.undo == "settings" and edit.spot.scope.startswith("person:") and edit.given.value is not None:
        return "a meeting's own"
    return _UNDO[edit.undo]


def in_words(edit: MadeEdit) -> str:
    """What an edit does."""
    if edit.given.value is None:
        return f"take {edit.spot.control} away"
    return f"set {edit.spot.control} to {shown(edit.given.value)}{', pinned' if edit.given.pinned else ''}"


def _not_mended(answer: MendAnswer, most: int) -> Iterator[Section]:
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
        rows, more = cut(made, most, _SHOW_ALL)
        names = (
            Column("rule", WHOLE),
            Column("service"),
            Column("verdicts", COUNT),
            Column("whose", spare=1),
            Column("what stands against it"),
        )
        yield Section("Not mended", names, rows, more)
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
        rows, more = cut(tasks, most, _SHOW_ALL)
        columns = (Column("rule", WHOLE), Column("what to do"), Column("people", COUNT), Column("in units", spare=1))
        yield Section("What people have to do themselves", columns, rows, more)
    yield from _sign_in_side(answer, most)


def _login(answer: MendAnswer, name: str) -> str:
    people = answer.mending.snapshot.people
    found = people.ids.find(name)
    return people.logins.take(np.array(found[:1]))[0] if found else name


def _sign_in_side(answer: MendAnswer, most: int) -> Iterator[Section]:
    """What ends each lock-out and closes each hole, by the best plan; what no edits close, with the reason."""
    rows: list[tuple[Cell, ...]] = []
    alike: dict[tuple[object, ...], list[Suggested]] = {}
    for suggested in answer.suggested:
        one = suggested.repair
        # Accounts that are locked out by the same rules are told together.
        plan = tuple(rule.id for rule in suggested.plans[0][0].edited) if suggested.plans else (one.because,)
        opened = suggested.plans[0][0].opened if suggested.plans else ()
        told = [rule for rule, _ in opened]
        key: tuple[object, ...] = (
            (one.kind, one.resources, plan, tuple(told)) if one.account else (one.rule, id(suggested))
        )
        alike.setdefault(key, []).append(suggested)
    for group in alike.values():
        one, best = group[0].repair, group[0].plans[0] if group[0].plans else None
        what = describe(one.hole) if one.hole is not None else _locked(answer, group)
        if best is None:
            rows.append((one.rule or None, what, None, f"none: {one.because}", None, None))
            continue
        plan_, stopped = best
        said = "; ".join(plan_.edits)
        if len(group) > 1:
            said = "; ".join(f"{rule.id}: also exclude each of them" for rule in plan_.edited)
        if plan_.opened:
            said += f" (which opens {some([rule for rule, _ in plan_.opened])} to it)"
        if plan_.against:
            said = f"({said}: {plan_.against})"
        ended = plan_.drifting - plan_.drifting_then if one.hole is not None else None
        rows.append((one.rule or None, what, len(plan_.edits), said, ended, _hurts(plan_, stopped)))
    if rows:
        shown_rows, more = cut(rows, most, _SHOW_ALL)
        yield Section(
            "On the sign-in side: the fewest edits of access rules that end each lock-out and close each hole",
            (
                Column("rule", WHOLE),
                Column("lock-out or hole"),
                Column("edits", COUNT),
                Column("which"),
                Column("frees", COUNT),
                Column("whom it hurts", spare=1),
            ),
            shown_rows,
            more,
        )


def _locked(answer: MendAnswer, group: Sequence[Suggested]) -> str:
    """Who is locked out of what."""
    one = group[0].repair
    names = some([_login(answer, each.repair.account) for each in group], 2)
    kind = {"break-glass": "break-glass account", "privileged": "privileged"}[one.kind]
    return f"locked out of {' and '.join(one.resources)}: {kind} {names}"


def _hurts(plan: RulePlan, stopped: tuple[int, int] | None) -> str:
    """The past sign-ins that a plan would have stopped, and who gets stuck until they register something."""
    told = []
    if stopped is not None and stopped[0]:
        told.append(f"{count(stopped[0], 'past sign-in')} of {count(stopped[1], 'person', 'people')}")
    if plan.stranded:
        told.append(f"{count(len(plan.stranded), 'person', 'people')} stuck until they register")
    return "; ".join(told) or ("" if stopped is None else "nobody")
