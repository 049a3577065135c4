"""What a sign-in would meet, for a person."""

from __future__ import annotations

from typing import TextIO

from ...core.sign_in.decide import Decision
from ...core.sign_in.fold import DecisionRow
from ...core.words.vocabulary import CONDITIONS
from ..drawing import console, draw, say
from ..render_options import RenderOptions
from ..section import WHOLE, WORD, Column, Section
from .sign_in import (
    SignInAnswer,
    SignInsAnswer,
    by_whom,
    condition_words,
    first_shut,
    helped,
    in_short,
    in_short_of_all,
    match_text,
    outcomes_of,
    sentence,
)


def _limits(decision: Decision) -> str:
    found = [f"{decision.longest_hours:g} hours"] if decision.longest_hours is not None else []
    return ", ".join([*found, *(["no downloads"] if decision.no_downloads else [])])


def write_sign_in(answer: SignInAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes the answer for a person."""
    with console(stream, look) as out:
        say(out, in_short(answer), "bold")
        if len(answer.rows) == 1:
            for line in _lines(answer, answer.rows[0]):
                say(out, line, indent=2)
        else:
            draw(out, _by_what_was_left_out(answer))
            shut = first_shut(answer)
            if shut is not None and (found := helped(answer, shut)):
                say(out, f"What helps where it is {shut.now.outcome} ({_place(shut)}): {found}", indent=2)
        if answer.decider.gatekeeper.rules:
            draw(out, _rules(answer, answer.rows[0]))


def write_sign_ins(answer: SignInsAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes a row for each resource."""
    rows = []
    for each in answer.resources:
        shut = first_shut(each)
        by = list(dict.fromkeys(by_whom(row.now) for row in each.rows))
        rows.append(
            (
                each.resource,
                " or ".join(outcomes_of(each)),
                "; ".join(by),
                helped(each, shut) if shut is not None else "",
            )
        )
    columns = (Column("resource", WHOLE), Column("what it meets"), Column("because"), Column("what helps", spare=1))
    with console(stream, look) as out:
        say(out, in_short_of_all(answer), "bold")
        draw(out, Section("Every resource", columns, tuple(rows)))
        say(out, f"More: usher-gate sign-in {answer.who} --resource NAME", indent=2)


def _lines(answer: SignInAnswer, row: DecisionRow) -> list[str]:
    """Return one decision in sentences."""
    lines = [f"{row.now.outcome}: {sentence(row.now)}", f"because: {by_whom(row.now)}"]
    lines += [f"what helps: {found}"] if (found := helped(answer, row)) else []
    lines += [f"session: {_limits(row.now)}"] if _limits(row.now) else []
    if row.observed.outcome != row.now.outcome:
        lines.append(f"if the observed rules were enforced: {row.observed.outcome} ({by_whom(row.observed)})")
    return lines


def _by_what_was_left_out(answer: SignInAnswer) -> Section:
    """Return the decisions, one a row, by the dimensions that the question left open."""
    names = [name for name in CONDITIONS if answer.open[name]]
    rows = tuple(
        (
            *(condition_words(row, answer)[name] for name in names),
            row.now.outcome,
            by_whom(row.now),
            _limits(row.now),
            "" if row.observed.outcome == row.now.outcome else f"{row.observed.outcome} ({by_whom(row.observed)})",
        )
        for row in answer.rows
    )
    last = (Column("outcome", WORD), Column("because"), Column("session"), Column("if enforced"))
    return Section("What it meets, by what was left out", (*map(Column, names), *last), rows)


def _place(row: DecisionRow) -> str:
    place = row.sign_in
    return ", ".join((place.network.text, place.client, place.platform, place.device, f"risk {place.risk}"))


def _rules(answer: SignInAnswer, row: DecisionRow) -> Section:
    """Return which rules match a row's sign-in."""
    rows = tuple(
        (rule.id, rule.mode, match_text(answer, number, row), rule.title)
        for number, rule in enumerate(answer.decider.gatekeeper.rules)
    )
    columns = (Column("rule", WHOLE), Column("mode"), Column("matches"), Column("title"))
    return Section(f"The rules, for the sign-in from {_place(row)}", columns, rows)
