"""A named set of settings, as a table and as JSON (form set/1)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TextIO

import numpy as np

from ...core.settings.effective import Cause
from ...core.words.compare import shown
from ...core.words.plural import plural
from ...core.words.record import record
from ..drawing import console, draw, say
from ..json_text import shown_or_none, text, write_form
from ..render_options import RenderOptions
from ..section import COUNT, WHOLE, Cell, Column, Section, cut, joined, some
from .answer import SetAnswer

_ALL_ROWS = "--rows 0, or --format json"


@record
class _Holder:
    """A person (number) that a set reaches, with the scopes of the settings that do.

    `effective_count` of `control_count` settings are effective; `hidden_by` says of the others what hides them.
    """

    person: int
    ways: tuple[str, ...]
    control_count: int
    effective_count: int
    hidden_by: tuple[str, ...]


def _holders(answer: SetAnswer) -> list[_Holder]:
    """Return the people that a set reaches; those with the most effective settings first."""
    ways: dict[int, list[str]] = {}
    effective: dict[int, int] = {}
    hidden: dict[int, list[str]] = {}
    for setting in answer.settings:
        for person in setting.reached.tolist():
            ways.setdefault(person, []).append(setting.cause.scope or "")
        for person in setting.counts.tolist():
            effective[person] = effective.get(person, 0) + 1
        for cause, people in setting.hidden:
            for person in people.tolist():
                hidden.setdefault(person, []).append(f"{setting.control} by {_hider(cause)}")
    holders = [
        _Holder(
            person=person,
            ways=tuple(dict.fromkeys(scopes)),
            control_count=len(scopes),
            effective_count=effective.get(person, 0),
            hidden_by=tuple(hidden.get(person, ())),
        )
        for person, scopes in ways.items()
    ]
    return sorted(holders, key=lambda holder: (-holder.effective_count, holder.control_count, holder.person))


def _hider(cause: Cause) -> str:
    if cause.scope is None:
        return "what is not known"
    return "the want of a licence" if cause.scope == "licence" else cause.scope


def _first_line(answer: SetAnswer, holders: list[_Holder]) -> str:
    places = len({setting.cause.scope for setting in answer.settings})
    size = f"{plural(answer.rows, 'setting')} at {plural(places, 'place')}"
    reaches = f"{answer.name} ({size}) reaches {plural(len(holders), 'person', 'people')}"
    if not holders:
        return f"{reaches}."
    whole = sum(holder.effective_count == holder.control_count for holder in holders)
    nowhere = sum(not holder.effective_count for holder in holders)
    parts = (("in whole", whole), ("in part", len(holders) - whole - nowhere), ("not at all", nowhere))
    counts = [
        f"{how} for {'all of them' if number == len(holders) else f'{number:,}'}" for how, number in parts if number
    ]
    return f"{reaches}; it counts {joined(counts)}."


def write_set(answer: SetAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Draw the set: its settings, and the people that it reaches."""
    holders = _holders(answer)
    with console(stream, look) as out:
        say(out, _first_line(answer, holders), "bold")
        idle_count = answer.rows - len(answer.settings)
        if idle_count:
            applies = "applies" if idle_count == 1 else "apply"
            say(out, f"  {plural(idle_count, 'setting')} of it {applies} to no person: not active, or at a meeting.")
        if answer.settings:
            columns = (
                Column("service"),
                Column("control", WHOLE),
                Column("value"),
                Column("by"),
                Column("reaches", COUNT),
                Column("counts for", COUNT),
                Column("hidden by"),
            )
            rows, more = cut([*_setting_rows(answer)], look.rows, _ALL_ROWS)
            draw(out, Section("Its settings", columns, rows, more))
        if holders:
            people = np.array([holder.person for holder in holders], np.int64)
            cells = [
                (
                    login,
                    some(list(holder.ways), 2),
                    f"{holder.effective_count} of {holder.control_count}",
                    some(list(holder.hidden_by), 2),
                )
                for login, holder in zip(answer.snapshot.people.logins.take(people), holders, strict=True)
            ]
            rows, more = cut(cells, look.rows, _ALL_ROWS)
            of_person = (Column("login", WHOLE), Column("by"), Column("counts in"), Column("hidden", spare=1))
            draw(out, Section("Who has it", of_person, rows, more))


def _setting_rows(answer: SetAnswer) -> Iterator[tuple[Cell, ...]]:
    for setting in answer.settings:
        hidden = some([f"{_hider(cause)} ({len(people):,})" for cause, people in setting.hidden], 2)
        value = f"{shown(setting.cause.value or '')}{', pinned' if setting.cause.pinned else ''}"
        yield (
            setting.service,
            setting.control,
            value,
            setting.cause.scope or "",
            len(setting.reached),
            len(setting.counts),
            hidden,
        )


def write_set_json(answer: SetAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Write the set as JSON."""
    ids = answer.snapshot.people.ids

    def cause_object(cause: Cause) -> dict[str, Any]:
        line = answer.line_of(cause.row) or None
        return {"scope": cause.scope, "value": shown_or_none(cause.value), "pinned": cause.pinned, "at": line}

    settings = [
        {
            "service": setting.service,
            "control": setting.control,
            **cause_object(setting.cause),
            "reached": ids.take(setting.reached),
            "counts": ids.take(setting.counts),
            "hidden": [{**cause_object(cause), "people": ids.take(people)} for cause, people in setting.hidden],
        }
        for setting in answer.settings
    ]
    holders = _holders(answer)
    numbers = np.array([holder.person for holder in holders], np.int64)
    people = [
        {
            "id": name,
            "login": login,
            "ways": list(holder.ways),
            "controls": holder.control_count,
            "counts": holder.effective_count,
        }
        for name, login, holder in zip(
            ids.take(numbers), answer.snapshot.people.logins.take(numbers), holders, strict=True
        )
    ]
    head = {"set": answer.name, "rows": answer.rows}
    lists = [("settings", map(text, settings)), ("people", map(text, people))]
    write_form(stream, "set/1", answer.snapshot, [{}, head], lists)
