"""One person at a glance, and who has a value: for a person at a terminal."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TextIO

import numpy as np

from ...core.organisation.columns import HOUR, MISSING
from ...core.organisation.credentials import PassDetails
from ...core.settings.effective import Cause
from ...core.verdicts.codes import DRIFTS, VERDICTS
from ...core.verdicts.explain import Overview, RuleExplanation
from ...core.words.plural import plural
from ...core.words.units import with_unit
from ..check.digest import cause_text
from ..drawing import console, draw, say
from ..page import Page, about_snapshot
from ..render_options import RenderOptions
from ..safe import why_call
from ..section import WHOLE, WORD, Column, Section, joined, listed, place_text
from ..titles import setting_text, title_of, value_of
from .why import Explanation, WaysAnswer


def glance_page(explanation: Explanation, glance: Overview, most: int) -> Page:
    """Return what drifts, what shuts the person out, what they get, their facts, and what to ask next."""
    drifting = sum(said.verdict == DRIFTS for said in glance.said)
    met = f"{plural(glance.met, 'verdict')} met"
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD),
        Column("verdict", WORD),
        Column("what is"),
        Column("what it asks"),
    )
    value_columns = (
        Column("service"),
        Column("control", WHOLE),
        Column("value"),
        Column("where it is set"),
        Column("", WHOLE),
    )
    values = [_value(explanation, each.service, each.control, each.cause) for each in glance.values]
    return Page(
        explanation.subject,
        (f"{plural(drifting, 'verdict')} drift{'s' if drifting == 1 else ''}; {met}.",),
        (
            listed("verdicts", "What is not met", columns, [_row(said, explanation) for said in glance.said], most),
            listed("values", "What they get, where some rule asks", value_columns, values, most),
            _facts_section(explanation, glance),
        ),
        about_snapshot(explanation.snapshot),
        labelled=tuple(_alarms(explanation, glance)),
        next_call=_next_call(explanation, glance),
    )


def _alarms(explanation: Explanation, glance: Overview) -> Iterator[tuple[str, str]]:
    """Yield what shuts the person out, and what lets them in for a while."""
    if glance.locked_out:
        yield "locked out", f"of {joined(glance.locked_out)}"
    if glance.stranded:
        yield "stuck", f"no way in to {joined(glance.stranded)} until something is registered"
    for each in glance.passes:
        yield "pass", pass_text(each, explanation)


def _facts_section(explanation: Explanation, glance: Overview) -> Section:
    """Return what is known of the person, and which facts are not."""
    facts = [(name, with_unit(name, value)) for name, value in glance.facts if value not in (None, "0", "-")]
    missing = [name for name, value in glance.facts if value is None]
    if _is_decided_at_home(explanation):
        shown = dict(facts).get(CAN_SHOW, "not known here")
        missing = [name for name in missing if name != CAN_SHOW]
        facts = [*(fact for fact in facts if fact[0] != CAN_SHOW), (CAN_SHOW, f"{shown}, decided at home")]
    more = f"not known: {', '.join(missing)}" if missing else ""
    return listed("facts", "What is known of them", (Column("fact", WHOLE), Column("")), facts, 0, more)


def _next_call(explanation: Explanation, glance: Overview) -> tuple[str, ...]:
    """Return a call that says more of the worst finding, or of the first value."""
    who = explanation.person
    worst = next((said for said in glance.said if said.verdict == DRIFTS), None)
    if worst is not None:
        return why_call(who.login, who.id, "--rule", worst.rule.id)
    return why_call(who.login, who.id, glance.values[0].control) if glance.values else ()


CAN_SHOW = "can-show"


def _is_decided_at_home(explanation: Explanation) -> bool:
    """Return whether what a guest can show is decided by their partner."""
    snapshot = explanation.snapshot
    if explanation.person.kind != "guest" or snapshot.partners is None:
        return False
    (row,) = snapshot.partner_rows[snapshot.people.ids.find(explanation.person.id)[:1]].tolist()
    return bool(row != MISSING and snapshot.partners[row].home.home_mfa)


def _row(said: RuleExplanation, explanation: Explanation) -> tuple[str, ...]:
    what = cause_text(said.detail, explanation.snapshot, said.service) if said.detail is not None else ""
    return said.rule.id, said.rule.severity, VERDICTS[said.verdict], what, said.rule.title


def _value(explanation: Explanation, service: str, control: str, cause: Cause | None) -> tuple[str, ...]:
    if cause is None or cause.value is None:
        return service, title_of(control), "(not known)", "", ""
    where = place_text(cause.scope or "", explanation.snapshot) + (", pinned" if cause.pinned else "")
    return service, title_of(control), value_of(control, cause.value), where, explanation.line_of(cause.row)


def pass_text(each: PassDetails, explanation: Explanation) -> str:
    """Return a bootstrap pass in words: its life in days and hours, start, end and issuer."""
    life = _span(each.expires - each.starts)
    taken = explanation.snapshot.taken_at
    when = f"live for another {_span(each.expires - taken)}" if each.live else f"starts in {_span(each.starts - taken)}"
    by = "by an unknown issuer" if each.issuer is None else "by someone who is not there"
    if each.issuer is not None and each.issuer != MISSING:
        by = f"by {explanation.snapshot.people.logins.take(np.array([each.issuer]))[0]}"
    once = {True: "works once", False: "works more than once", None: "not said whether it works only once"}[
        each.single_use
    ]
    start, end = explanation.time_of(each.starts), explanation.time_of(each.expires)
    return f"A bootstrap pass of {life}, {when}: from {start} to {end}, issued {by}, {once}."


def _span(micros: int) -> str:
    """Return a length of time in days and hours, or in minutes where it is shorter."""
    days, rest = divmod(micros, 24 * HOUR)
    hours, rest = divmod(rest, HOUR)
    parts = [plural(number, word) for number, word in ((days, "day"), (hours, "hour")) if number]
    minutes = -(-rest * 60 // HOUR)
    if minutes and not days:
        parts.append(plural(minutes, "minute"))
    return joined(parts) if parts else "no time"


def write_ways(answer: WaysAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Who has a value, and by which ways."""
    has = sum(ways.has for _, ways in answer.found)
    people = {ways.person for _, ways in answer.found if ways.has}
    value = setting_text(answer.control, answer.value)
    with console(stream, look) as out:
        who = plural(len(people), "person has", "people have")
        say(
            out,
            f"{who} {value}; for {len(answer.found) - has:,} more something gives it and something else hides it.",
            "bold",
        )
        made = []
        for service, ways in answer.found:
            login = answer.snapshot.people.logins.take(np.array([ways.person]))[0]
            by = "; ".join(f"{cause.scope}{_at(answer, cause)}" for cause in ways.ways)
            hidden = ""
            if not ways.has:
                hidden = (
                    "not known"
                    if ways.counts is None
                    else f"{value_of(answer.control, ways.counts.value or '')} at {ways.counts.scope}"
                )
            made.append((login, service, "yes" if ways.has else "no", by, hidden))
        columns = (Column("login", WHOLE), Column("service"), Column("has it"), Column("by"), Column("hidden by"))
        if made:
            draw(out, listed("", "By which ways, widest first", columns, made, look.rows))


def _at(answer: WaysAnswer, cause: Cause) -> str:
    line = answer.line_of(cause.row)
    return f" ({line})" if line else ""
