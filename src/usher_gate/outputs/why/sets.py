"""A named set of settings: who has it, by which way, where it counts, and what hides it; as a table and as JSON (set/1)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TextIO

import numpy as np

from ...core.settings.effective import Cause
from ...core.words.compare import shown
from ..drawing import console, draw, say
from ..json_text import shown_or_none, text, write_form
from ..look import Look
from ..section import COUNT, WHOLE, Cell, Column, Section, count, cut, joined, some
from .answer import SetAnswer

_ALL = "--rows 0, or --format json"


def _held(answer: SetAnswer) -> list[tuple[int, list[str], int, int, list[str]]]:
    """Of each person whom a set reaches: the scopes by which, of how many controls, in how many it counts, and what hides it."""
    found: dict[int, tuple[dict[str, None], list[int], dict[str, None]]] = {}
    for one in answer.settings:
        counting = set(one.counts.tolist())
        for person in one.reached.tolist():
            ways, many, _ = found.setdefault(person, ({}, [0, 0], {}))
            ways[one.cause.scope or ""] = None
            many[0] += 1
            many[1] += person in counting
        for cause, people in one.hidden:
            for person in people.tolist():
                found[person][2][f"{one.control} by {_by(cause)}"] = None
    held = [(person, [*ways], many[0], many[1], [*hidden]) for person, (ways, many, hidden) in found.items()]
    return sorted(held, key=lambda each: (-each[3], each[2], each[0]))


def _by(cause: Cause) -> str:
    if cause.scope is None:
        return "what is not known"
    return "the want of a licence" if cause.scope == "licence" else cause.scope


def write_set(answer: SetAnswer, stream: TextIO, look: Look) -> None:
    """Draws the set as one thing."""
    held = _held(answer)
    whole = sum(each[2] == each[3] for each in held)
    nowhere = sum(not each[3] for each in held)
    places = len({one.cause.scope for one in answer.settings})
    with console(stream, look) as out:
        size = f"{count(answer.rows, 'setting')} at {count(places, 'place')}"
        first = f"{answer.name} ({size}) reaches {count(len(held), 'person', 'people')}"
        parts = (("in whole", whole), ("in part", len(held) - whole - nowhere), ("not at all", nowhere))
        told = [f"{how} for {f'{many:,}' if many < len(held) else 'all of them'}" for how, many in parts if many]
        counts = f"it counts {joined(told)}"
        say(out, f"{first}; {counts}." if held else f"{first}.", "bold")
        if len(answer.settings) < answer.rows:
            say(
                out,
                f"  {count(answer.rows - len(answer.settings), 'setting')} of it apply to no person: not active, or at a meeting.",
            )
        columns = (Column("service"), Column("control", WHOLE), Column("value"), Column("by"), Column("reaches", COUNT),
                   Column("counts for", COUNT), Column("hidden by"))  # fmt: skip
        if answer.settings:
            rows, more = cut([*_setting_rows(answer)], look.rows, _ALL)
            draw(out, Section("Its settings", columns, rows, more))
        if held:
            logins = answer.snapshot.people.logins.take(np.array([each[0] for each in held], np.int64))
            made = [
                (login, some(ways, 2), f"{counts} of {controls}", some(hidden, 2))
                for login, (_, ways, controls, counts, hidden) in zip(logins, held, strict=True)
            ]
            rows, more = cut(made, look.rows, _ALL)
            names = (Column("login", WHOLE), Column("by"), Column("counts in"), Column("hidden", spare=1))
            draw(out, Section("Who has it", names, rows, more))


def _setting_rows(answer: SetAnswer) -> Iterator[tuple[Cell, ...]]:
    for one in answer.settings:
        hidden = some([f"{_by(cause)} ({len(people):,})" for cause, people in one.hidden], 2)
        value = f"{shown(one.cause.value or '')}{', pinned' if one.cause.pinned else ''}"
        yield one.service, one.control, value, one.cause.scope or "", len(one.reached), len(one.counts), hidden


def write_set_json(answer: SetAnswer, stream: TextIO, _look: Look) -> None:
    """Writes the set as JSON."""
    ids = answer.snapshot.people.ids

    def setting(cause: Cause) -> dict[str, Any]:
        at = answer.line_of(cause.row) or None
        return {"scope": cause.scope, "value": shown_or_none(cause.value), "pinned": cause.pinned, "at": at}

    settings = [
        {
            "service": one.service,
            "control": one.control,
            **setting(one.cause),
            "reached": ids.take(one.reached),
            "counts": ids.take(one.counts),
            "hidden": [{**setting(cause), "people": ids.take(people)} for cause, people in one.hidden],
        }
        for one in answer.settings
    ]
    held = _held(answer)
    rows = np.array([each[0] for each in held], np.int64)
    people = [
        {"id": name, "login": login, "ways": ways, "controls": controls, "counts": counts}
        for name, login, (_, ways, controls, counts, _) in zip(
            ids.take(rows), answer.snapshot.people.logins.take(rows), held, strict=True
        )
    ]
    head = {"set": answer.name, "rows": answer.rows}
    lists = [("settings", [text(each) for each in settings]), ("people", [text(each) for each in people])]
    write_form(stream, "set/1", answer.snapshot, [{}, head], lists)
