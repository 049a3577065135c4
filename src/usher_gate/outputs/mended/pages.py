"""The fewest changes that mend, for people: a first line, lines of detail and sections."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ...core.mend.mending import MadeEdit, Mending, batches
from ...core.mend.order import NO_ORDER, NOT_FOUND, SAFE
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
    if not mending.edits and mending.limit is None:
        why = "none of it comes from a setting" if not mending.mendable else "nothing that may be set ends any of it"
        return f"{count(mending.drifting, 'verdict drifts', 'verdicts drift')}, and {why}."
    verb = "ends" if len(mending.edits) == 1 else "end"
    said = f"{count(len(mending.edits), 'edit')} {verb} {mending.ended:,} of {count(mending.drifting, 'drift')}"
    if mending.limit is not None:
        return f"{said}, of at most {mending.limit:,} edits."
    return f"{said}: {mending.proof}."


def _details(answer: MendAnswer) -> Iterator[str]:
    mending = answer.mending
    if mending.edits:
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
    if mending.edits:
        rows, more = cut([*_edit_rows(mending.edits)], most, _SHOW_ALL)
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


def _edit_rows(edits: Sequence[MadeEdit]) -> Iterator[tuple[Cell, ...]]:
    """One row an edit; those at several places of one kind that say the same are told together."""
    folded: dict[tuple[object, ...], list[tuple[int, MadeEdit]]] = {}
    for number, edit in enumerate(edits, 1):
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
    """What closes each hole."""
    best: dict[tuple[str, str], tuple[Cell, ...]] = {}
    for suggested in answer.suggested:
        one = suggested.suggestion
        key = one.rule, describe(one.hole)
        if key in best:
            continue
        advice = f"({one.what}: {suggested.because})" if suggested.because else one.what
        best[key] = (one.rule, key[1], advice, one.drifting - one.drifting_then, _stopped(suggested))
    if best:
        rows, more = cut([*best.values()], most, _SHOW_ALL)
        yield Section(
            "On the sign-in side: what closes each hole, by one edit of one rule",
            (
                Column("rule", WHOLE),
                Column("hole"),
                Column("edit"),
                Column("frees", COUNT),
                Column("past sign-ins stopped", COUNT, 1),
            ),
            rows,
            more,
        )


def _stopped(suggested: Suggested) -> str:
    """The past sign-ins that an edit would have stopped."""
    if suggested.stopped is None:
        return ""
    many, people = suggested.stopped
    return f"{many:,} ({count(people, 'person', 'people')})" if many else "none"
