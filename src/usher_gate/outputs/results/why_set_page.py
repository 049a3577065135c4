"""A named set of settings, for a person at a terminal."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TextIO

import numpy as np

from ...core.words.plural import plural
from ..drawing import console, draw, say
from ..render_options import RenderOptions
from ..section import COUNT, WHOLE, Cell, Column, joined, listed, some
from ..titles import title_of, value_of
from .why import Holder, SetAnswer, hider_text, holders


def _first_line(answer: SetAnswer, reached: list[Holder]) -> str:
    places = len({setting.cause.scope for setting in answer.settings})
    size = f"{plural(answer.rows, 'setting')} at {plural(places, 'place')}"
    reaches = f"{answer.name} ({size}) reaches {plural(len(reached), 'person', 'people')}"
    if not reached:
        return f"{reaches}."
    whole = sum(holder.effective_count == holder.control_count for holder in reached)
    nowhere = sum(not holder.effective_count for holder in reached)
    parts = (("in whole", whole), ("in part", len(reached) - whole - nowhere), ("not at all", nowhere))
    counts = [
        f"{how} for {'all of them' if number == len(reached) else f'{number:,}'}" for how, number in parts if number
    ]
    return f"{reaches}; it counts {joined(counts)}."


def write_set(answer: SetAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Draw the set: its settings, and the people that it reaches."""
    reached = holders(answer)
    with console(stream, look) as out:
        say(out, _first_line(answer, reached), "bold")
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
            draw(out, listed("", "Its settings", columns, [*_setting_rows(answer)], look.rows))
        if reached:
            people = np.array([holder.person for holder in reached], np.int64)
            cells = [
                (
                    login,
                    some(list(holder.ways), 2),
                    f"{holder.effective_count} of {holder.control_count}",
                    some(list(holder.hidden_by), 2),
                )
                for login, holder in zip(answer.snapshot.people.logins.take(people), reached, strict=True)
            ]
            of_person = (Column("login", WHOLE), Column("by"), Column("counts in"), Column("hidden", spare=1))
            draw(out, listed("", "Who has it", of_person, cells, look.rows))


def _setting_rows(answer: SetAnswer) -> Iterator[tuple[Cell, ...]]:
    for setting in answer.settings:
        hidden = some([f"{hider_text(cause)} ({len(people):,})" for cause, people in setting.hidden], 2)
        value = f"{value_of(setting.control, setting.cause.value or '')}{', pinned' if setting.cause.pinned else ''}"
        yield (
            setting.service,
            title_of(setting.control),
            value,
            setting.cause.scope or "",
            len(setting.reached),
            len(setting.counts),
            hidden,
        )
