"""What a sign-in would meet, for a person."""

from __future__ import annotations

from typing import TextIO

from ...core.sign_in.decide import Decision
from ...core.words.vocabulary import CONDITIONS
from ..drawing import console, draw, say
from ..look import Look
from ..section import WHOLE, WORD, Column, Section
from .answer import SignInAnswer, _match, _where, by_whom, helps, sentence


def _limits(decision: Decision) -> str:
    found = [f"{decision.longest_hours:g} hours"] if decision.longest_hours is not None else []
    return ", ".join([*found, *(["no downloads"] if decision.no_downloads else [])])


def write_sign_in(answer: SignInAnswer, stream: TextIO, look: Look) -> None:
    """Writes the answer for a person."""
    with console(stream, look) as out:
        say(out, f"{answer.who} signs in to {answer.resource}", "bold")
        if len(answer.rows) == 1:
            row = answer.rows[0]
            lines = [f"{row.now.outcome}: {sentence(row.now)}", f"because: {by_whom(row.now)}"]
            lines += [f"what helps: {helps(row.now)}"] if helps(row.now) else []
            lines += [f"session: {_limits(row.now)}"] if _limits(row.now) else []
            if row.observed.outcome != row.now.outcome:
                lines.append(f"if the observed rules were enforced: {row.observed.outcome} ({by_whom(row.observed)})")
            for line in lines:
                say(out, line, indent=2)
        else:
            names = [name for name in CONDITIONS if answer.open[name]]
            made = tuple(
                (
                    *(_where(row, answer)[name] for name in names),
                    row.now.outcome,
                    by_whom(row.now),
                    _limits(row.now),
                    ""
                    if row.observed.outcome == row.now.outcome
                    else f"{row.observed.outcome} ({by_whom(row.observed)})",
                )
                for row in answer.rows
            )
            columns = (
                *(Column(name) for name in names),
                Column("outcome", WORD),
                Column("because"),
                Column("session"),
                Column("if enforced"),
            )
            draw(out, Section("What it meets, by what was left out", columns, made))
        first = answer.rows[0]
        rules = tuple(
            (rule.id, rule.mode, _match(answer, number, first), rule.title)
            for number, rule in enumerate(answer.decider.gatekeeper.rules)
        )
        if rules:
            place = first.sign_in
            parts = (place.network.text, place.client, place.platform, place.device, f"risk {place.risk}")
            example = ", ".join(parts)
            draw(
                out,
                Section(
                    f"The rules, for the sign-in from {example}",
                    (Column("rule", WHOLE), Column("mode"), Column("matches"), Column("title")),
                    rules,
                ),
            )
