"""Holes, lock-outs and what ails the access rules, for a person."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TextIO

from ...core.sign_in.gatekeeper import Gatekeeper
from ...core.sign_in.lockout import Lockout
from ..drawing import console, draw, say
from ..look import Look
from ..section import COUNT, WHOLE, WORD, Column, Section, count
from .answer import HolesAnswer, RuleHoles, _outcome, _reach, describe


def _rule_section(rule: RuleHoles, most: int) -> Section:
    made = tuple(
        (
            len(hole.people),
            describe(hole),
            "; ".join(hole.because),
            "yes" if hole.observed_closes else "",
        )
        for hole in rule.holes
    )
    shown = made[:most] if most else made
    more = f"and {len(made) - len(shown)} more: --rows 0" if len(made) > len(shown) else ""
    whom = f"{rule.asked.proof} from {count(rule.people, 'person', 'people')}"
    title = f"{rule.rule + ': ' if rule.rule else ''}{whom}: {count(len(made), 'hole')}"
    columns = (Column("people", COUNT), Column("the way in"), Column("because"), Column("closed if enforced"))
    return Section(title, columns, shown, more)


def locked_section(title: str, lockouts: Sequence[Lockout]) -> Section:
    """Who is locked out of which resource."""
    rows = []
    for lockout in lockouts:
        who = ", ".join(lockout.people[:6]) + (" …" if len(lockout.people) > 6 else "")
        rows.append((lockout.resource, f"{'ALL ' if lockout.all else ''}{lockout.of}", len(lockout.people), who))
    return Section(title, (Column("resource"), Column("of"), Column("people", COUNT), Column("who")), tuple(rows))


def _rules_section(keeper: Gatekeeper) -> Section:
    rows = []
    for number, rule in enumerate(keeper.rules):
        reached, excluded = _reach(keeper, number)
        people = "not known" if keeper.unanswerable >> number & 1 else reached
        rows.append((rule.id, rule.mode, people, excluded or None, _outcome(rule), rule.title))
    columns = (
        Column("rule", WHOLE),
        Column("mode"),
        Column("reaches", COUNT),
        Column("excludes", COUNT),
        Column("outcome", WORD),
        Column("title"),
    )
    return Section("The access rules", columns, tuple(rows))


def write_holes(answer: HolesAnswer, stream: TextIO, look: Look) -> None:
    """Writes the answer for a person, the widest question first."""
    every = [hole for rule in answer.rules for hole in rule.holes]
    people = {person for hole in every for person in hole.people}
    closed = sum(hole.observed_closes for hole in every)
    with console(stream, look) as out:
        answered = "No hole: every proof that is asked for is required everywhere."
        if every:
            answered = f"{count(len(every), 'hole')} lets" if len(every) == 1 else f"{count(len(every), 'hole')} let"
            answered += f" {count(len(people), 'person', 'people')} in without the proof that is asked for."
        say(out, answered, "bold")
        if closed:
            out.print(f"  {closed} of them would be closed if what is only observed were enforced.")
        for rule in answer.rules:
            section = _rule_section(rule, look.rows)
            if section.rows:
                draw(out, section)
            else:
                out.print()
                say(out, section.title)
        ailing = tuple((ailment.rule, ailment.text) for ailment in answer.ailments)
        ails = Section("What ails the rules themselves", (Column("rule", WHOLE), Column("what")), ailing)
        for section in (locked_section("Locked out", answer.lockouts), ails, _rules_section(answer.keeper)):
            if section.rows:
                draw(out, section)
