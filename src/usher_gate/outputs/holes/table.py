"""Holes, lock-outs and what ails the access rules, for a person."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TextIO

from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.evaluator import AccessPolicyEvaluator
from ...core.sign_in.holes import WayIn
from ...core.sign_in.lockout import Lockout
from ...core.words.plural import plural
from ...core.words.times import show_time
from ..conditions import conditional_lines
from ..drawing import console, draw, say
from ..render_options import RenderOptions
from ..section import COUNT, WHOLE, WORD, Column, Section, few_logins, some_logins
from .answer import HolesAnswer, RuleHoles, describe, outcome, outcome_text, reach_counts


def _rule_section(rule: RuleHoles, answer: HolesAnswer, most: int) -> Section:
    """Return the table of the ways past one requirement."""
    made = tuple(
        (
            len(hole.people),
            describe(hole),
            "; ".join(hole.because),
            "yes" if hole.observed_closes else "",
            _used(answer, hole),
            _who(answer, hole, most),
        )
        for hole in rule.holes
    )
    shown = made[:most] if most else made
    more = f"and {len(made) - len(shown)} more: --rows 0" if len(made) > len(shown) else ""
    asked_of = f"{rule.asked.proof} from {plural(rule.people, 'person', 'people')}"
    title = f"{rule.rule + ': ' if rule.rule else ''}{asked_of}: {plural(len(made), 'hole')}"
    columns = (
        Column("people", COUNT),
        Column("the way in"),
        Column("because"),
        Column("closed if enforced"),
        Column("past sign-ins"),
        Column("who"),
    )
    return Section(title, columns, shown, more)


def _who(answer: HolesAnswer, hole: WayIn, most: int) -> str:
    """Return the people that a hole lets in; people who used it first, with how often."""
    use = answer.use_of(hole)
    times = dict(use.by) if use is not None else {}
    people = [*times, *(person for person in hole.people if person not in times)]
    return few_logins(answer.snapshot, people, most, times)


def _used(answer: HolesAnswer, hole: WayIn) -> str:
    """Return how many sign-ins went through a hole, and when the last did."""
    use = answer.use_of(hole)
    if use is None:
        return ""
    perhaps = f"{use.perhaps:,} perhaps" if use.perhaps else ""
    if not use.sign_ins:
        return perhaps or "no"
    last = show_time(use.last)[:10] if use.last is not None else ""
    return f"{use.sign_ins:,} by {len(use.by):,}, last on {last}" + (f"; {perhaps}" if perhaps else "")


def locked_section(title: str, lockouts: Sequence[Lockout], snapshot: Snapshot) -> Section:
    """Return who is locked out of which resource."""
    rows = []
    for lockout in lockouts:
        who = some_logins(snapshot, lockout.people, 6)
        by = ", ".join(
            rule.id + (f" (changed {show_time(rule.changed)[:10]})" if rule.changed is not None else "")
            for rule in lockout.rules
        )
        rows.append((lockout.resource, f"{'ALL ' if lockout.all else ''}{lockout.of}", len(lockout.people), who, by))
    columns = (Column("resource"), Column("of"), Column("people", COUNT), Column("who"), Column("by the rules"))
    return Section(title, columns, tuple(rows))


def _stranded(answer: HolesAnswer, most: int) -> Section:
    rows = tuple(
        (each.resource, len(each.people), few_logins(answer.snapshot, each.people.tolist(), most))
        for each in answer.stranded
    )
    columns = (Column("resource", WHOLE), Column("people", COUNT), Column("who"))
    return Section("Stranded: no way in until they register something", columns, rows)


def _rules_section(evaluator: AccessPolicyEvaluator) -> Section:
    rows = []
    for number, rule in enumerate(evaluator.rules):
        reached, excluded = reach_counts(evaluator, number)
        people = "not known" if evaluator.unanswerable >> number & 1 else reached
        rows.append((rule.id, rule.mode, people, excluded or None, outcome_text(rule), rule.title))
    columns = (
        Column("rule", WHOLE),
        Column("mode"),
        Column("reaches", COUNT),
        Column("excludes", COUNT),
        Column("outcome", WORD),
        Column("title"),
    )
    return Section("The access rules", columns, tuple(rows))


def write_holes(answer: HolesAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes the answer for a person, the widest question first."""
    every = [hole for rule in answer.rules for hole in rule.holes]
    closed = sum(hole.observed_closes for hole in every)
    with console(stream, look) as out:
        say(out, outcome(answer), "bold")
        for line in conditional_lines(answer.conditional, answer.snapshot):
            say(out, line, indent=2)
        if answer.uses is not None:
            say(out, f"Used: counted over {answer.log}.", indent=2)
        if closed:
            out.print(f"  {closed} of them would be closed if what is only observed were enforced.")
        for rule in answer.rules:
            section = _rule_section(rule, answer, look.rows)
            if section.rows:
                draw(out, section)
            else:
                out.print()
                say(out, section.title)
        ailing = tuple((defect.rule, defect.text) for defect in answer.defects)
        ails = Section("Defects of the access rules", (Column("rule", WHOLE), Column("what")), ailing)
        for section in (
            locked_section("Locked out", answer.lockouts, answer.snapshot),
            _stranded(answer, look.rows),
            ails,
            _rules_section(answer.evaluator),
        ):
            if section.rows:
                draw(out, section)
