"""Holes, lock-outs and defects of the access rules, for people: a first line, labelled lines and sections."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ...core.organisation.snapshot import Snapshot
from ...core.sign_in.evaluator import AccessPolicyEvaluator
from ...core.sign_in.holes import WayIn
from ...core.sign_in.lockout import Lockout
from ...core.words.plural import plural
from ...core.words.times import show_time
from ...core.words.vocabulary import SEVERITIES
from ..conditions import conditional_lines
from ..page import Page, about_snapshot
from ..section import COUNT, WHOLE, WORD, Column, Section, few_logins, joined, listed, part, some, some_logins
from .holes import HolesAnswer, describe, outcome, outcome_text, reach_counts


def _holes_section(answer: HolesAnswer, most: int) -> Section:
    """Return the table of the ways past each requirement, those of the most severe rule first."""
    rows = [
        (
            rule.rule or rule.asked.proof,
            rule.severity,
            len(hole.people),
            describe(hole),
            "; ".join(hole.because),
            "yes" if hole.observed_closes else "",
            _used(answer, hole),
            _who(answer, hole, most),
        )
        for rule in sorted(answer.rules, key=lambda rule: SEVERITIES.index(rule.severity or SEVERITIES[0]))
        for hole in rule.holes
    ]
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD, spare=2),
        Column("people", COUNT),
        Column("the way in"),
        Column("because"),
        Column("closed if enforced", spare=3),
        Column("past sign-ins", spare=4),
        Column("who", spare=5),
    )
    return listed("holes", "Ways in without the proof", columns, rows, most)


def _people_section(answer: HolesAnswer, most: int) -> Section:
    """Return everybody that a hole lets in, with the rules whose proof is not asked for there."""
    rules: dict[int, dict[str, int]] = {}
    for rule in answer.rules:
        for hole in rule.holes:
            for person in hole.people:
                counted = rules.setdefault(person, {})
                counted[rule.rule or rule.asked.proof] = counted.get(rule.rule or rule.asked.proof, 0) + 1
    ordered = sorted(rules, key=lambda person: (-sum(rules[person].values()), person))
    shown = ordered[:most] if most else ordered
    logins = answer.snapshot.people.logins.take(np.array(shown, np.int32))
    rows = tuple(
        (login, sum(rules[person].values()), ", ".join(rules[person]))
        for login, person in zip(logins, shown, strict=True)
    )
    columns = (Column("login", WHOLE), Column("holes", COUNT), Column("of the rules"))
    return part("people", "People that the holes let in", columns, rows, len(ordered))


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
    return Section(title, columns, tuple(rows), word="lockouts")


def _stranded(answer: HolesAnswer, most: int) -> Section:
    """Return who gets in nowhere until they register something, by resource."""
    rows = [
        (each.resource, len(each.people), few_logins(answer.snapshot, each.people.tolist(), most))
        for each in answer.stranded
    ]
    columns = (Column("resource", WHOLE), Column("people", COUNT), Column("who"))
    return listed("stranded", "Stranded: no way in until they register something", columns, rows, most)


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
    return Section("The access rules", columns, tuple(rows), word="rules")


def holes_page(answer: HolesAnswer, most: int) -> Page:
    """Return the holes, the most severe rule's first, and what else is wrong with the access rules."""
    defects = tuple((defect.rule, defect.text) for defect in answer.defects)
    sections = (
        _holes_section(answer, most),
        _people_section(answer, most),
        locked_section("Locked out", answer.lockouts, answer.snapshot),
        _stranded(answer, most),
        Section("Defects of the access rules", (Column("rule", WHOLE), Column("what")), defects, word="defects"),
        _rules_section(answer.evaluator),
    )
    return Page(
        first=outcome(answer),
        details=tuple(_details(answer)),
        sections=sections,
        about=about_snapshot(answer.snapshot),
        listed_by="--show people" if any(rule.holes for rule in answer.rules) else "",
        labelled=tuple(_labelled(answer)),
    )


def _details(answer: HolesAnswer) -> Iterator[str]:
    """Yield the sentences below the first line."""
    closed = sum(hole.observed_closes for rule in answer.rules for hole in rule.holes)
    if closed:
        yield f"{closed} of them would be closed if what is only observed were enforced."
    if answer.uses is not None:
        yield f"Used: counted over {answer.log}."


def _labelled(answer: HolesAnswer) -> Iterator[tuple[str, str]]:
    """Yield the alarms: who is locked out, stuck, or gets in only under conditions; defects of the rules."""
    locked = dict.fromkeys(person for lockout in answer.lockouts for person in lockout.people)
    if locked:
        who = some_logins(answer.snapshot, list(locked), 3)
        resources = joined(list(dict.fromkeys(lockout.resource for lockout in answer.lockouts)))
        yield "locked out", f"{who}: {resources} (--show lockouts)"
    stuck = {int(person) for each in answer.stranded for person in each.people}
    if stuck:
        where = plural(len(answer.stranded), "resource")
        people = plural(len(stuck), "person", "people")
        yield "stuck", f"{people}: no way in to {where} until they register something (--show stranded)"
    yield from (("only if", line) for line in conditional_lines(answer.conditional, answer.snapshot))
    if answer.defects:
        rules = some(list(dict.fromkeys(defect.rule for defect in answer.defects)))
        yield "defects", f"{plural(len(answer.defects), 'defect')} of the access rules: {rules} (--show defects)"
