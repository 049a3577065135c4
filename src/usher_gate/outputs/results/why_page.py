"""Where one person's value or verdict comes from, for a person."""

from __future__ import annotations

from typing import TextIO

from rich.console import Console
from rich.text import Text

from ...core.settings.walk import AFTER_PIN, BEATEN, OVERRIDDEN, STANDS, Step, StepSetting, Walk
from ...core.verdicts.codes import MEETS, VERDICTS
from ...core.verdicts.condition import Leaf
from ...core.verdicts.explain import ExplainedValue, RuleExplanation
from ...core.verdicts.outcome import Outcome, VerdictDetail
from ...core.words.vocabulary import REASONS
from ..check.digest import arrival, words_apart
from ..drawing import STYLES, console, draw, say
from ..page import draw_page
from ..render_options import RenderOptions
from ..safe import for_terminal
from ..section import DATE, WHOLE, WORD, Column, Section, place_text, scope_text
from ..titles import asked_text, quoted_value_of, setting_text, title_of, value_of
from .why import Explanation
from .why_glance_page import glance_page

_STATES = {
    STANDS: "counts",
    OVERRIDDEN: "overruled",
    BEATEN: "outranked",
    AFTER_PIN: "cut off",
}


def write_why(explanation: Explanation, stream: TextIO, look: RenderOptions) -> None:
    """Writes the explanation for a person."""
    with console(stream, look) as out:
        if explanation.glance is not None:
            draw_page(out, glance_page(explanation, explanation.glance, look.rows), look)
            return
        say(out, explanation.subject, "bold")
        for said in explanation.said:
            _said(out, said, explanation)
        for explained in explanation.walks:
            _walk(out, explained, explanation)


def _said(out: Console, said: RuleExplanation, explanation: Explanation) -> None:
    """Print one verdict with its reasons."""
    out.print()
    where = f" on {said.service}" if said.service else ""
    verdict = VERDICTS[said.verdict]
    out.print(
        Text.assemble(
            (for_terminal(f"{said.rule.id}{where}: "), "bold"),
            (verdict, STYLES.get(verdict, "")),
            for_terminal(f"  ({said.rule.severity}) {said.rule.title}"),
        )
    )
    for line in _sentences(said, explanation):
        say(out, line, indent=2)
    for line in _hole(said, explanation):
        say(out, line, indent=2)
    if said.detail is not None and said.detail.leaves:
        draw(out, _compared(said.detail, explanation))


def _hole(said: RuleExplanation, explanation: Explanation) -> list[str]:
    """Return the sign-in that slips through, and which observed rule would close it."""
    hole = (
        next((outcome.hole for _, outcome in said.detail.leaves if outcome.hole is not None), None)
        if said.detail
        else None
    )
    if hole is None:
        return []
    place = (
        f"from {hole.network.text} ({hole.network.address})" if hole.network.address else f"from {hole.network.text}"
    )
    lines = [
        f"The hole: to {hole.resource}, {place}, client {hole.client}, platform {hole.platform}, device "
        f"{hole.device}, risk {hole.risk}."
    ]
    closing = explanation.closing.get(said.rule.id, ())
    if closing:
        verb = "is" if len(closing) == 1 else "are"
        lines.append(f"{', '.join(closing)} would close it, but {verb} only observed.")
    return lines


def _all_the_same(said: RuleExplanation, explanation: Explanation) -> list[str]:
    """Return what a rule that does not apply would look at."""
    lines = []
    for got in said.values:
        if got.cause is None or got.cause.value is None:
            lines.append(f"{got.service}: {title_of(got.control)} is not known")
        else:
            place = place_text(got.cause.scope or "", explanation.snapshot)
            lines.append(f"{got.service}: {setting_text(got.control, got.cause.value)}, {place}")
    return lines + [
        f"{name} {'is not known' if value is None else value_of(name, value)}" for name, value in said.facts
    ]


def _sentences(said: RuleExplanation, explanation: Explanation) -> list[str]:
    """Return why the verdict is what it is, and what mends it."""
    lines = [f"The rule does not apply: {said.exempt}."] if said.exempt else []
    lines += [f"The value all the same: {line}." for line in _all_the_same(said, explanation)]
    if said.detail is not None:
        lines += [REASONS[said.detail.reason]] if said.detail.reason else []
        if when := arrival(explanation.snapshot, said.service, said.detail).removeprefix("; "):
            lines.append(f"{when[0].upper()}{when[1:]}.")
        if said.detail.would_be is not None:
            lines.append(
                f"Without the exception {said.detail.exception} it would be: {VERDICTS[said.detail.would_be]}."
            )
    if said.rule.because:
        lines.append(f"Why it is asked: {said.rule.because}")
    if said.rule.mend and said.verdict < MEETS:
        lines.append(f"What mends it: {said.rule.mend}")
    return lines


_COMPARED = (
    Column(""),
    Column("what"),
    Column("is"),
    Column("should be"),
    Column("verdict", WORD),
    Column("where", WHOLE),
)


def _actual(leaf: Leaf, outcome: Outcome) -> str:
    if leaf.about == "proof":
        return "asked for everywhere" if outcome.verdict == MEETS else "not asked for everywhere"
    if leaf.about == "door" and outcome.actual is None:
        return "no one fares otherwise" if outcome.verdict == MEETS else "(not known)"
    value = "(not known)" if outcome.actual is None else value_of(leaf.name, outcome.actual)
    return value + words_apart(leaf, outcome)


def _compared(detail: VerdictDetail, explanation: Explanation) -> Section:
    """Return what each leaf compared."""
    rows = tuple(
        (
            ">" if leaf.number == detail.decided else "",
            leaf.about if leaf.about == "door" else f"{leaf.about} {title_of(leaf.name)}",
            _actual(leaf, outcome),
            asked_text(leaf),
            VERDICTS[outcome.verdict],
            place_text(outcome.cause.scope, explanation.snapshot) if outcome.cause and outcome.cause.scope else "",
        )
        for leaf, outcome in detail.leaves
    )
    return Section("What was compared (> decides)" if len(rows) > 1 else "What was compared", _COMPARED, rows)


def _walk(out: Console, explained: ExplainedValue, explanation: Explanation) -> None:
    """Print how one value comes about, and the rules that look at it."""
    walk = explained.walk
    out.print()
    value = "is not known" if walk.value is None else f"is {quoted_value_of(walk.control, walk.value)}"
    named = title_of(walk.control)
    named += "" if named == walk.control else f" ({walk.control})"
    head = for_terminal(f"{walk.service.id}: {named} {value}")
    out.print(Text.assemble((head, "bold"), for_terminal(f"  {_standing(walk, explanation)}")))
    for line in _remarks(walk, explanation):
        say(out, line, indent=2)
    rows = [row for step in walk.steps for row in _step(walk.control, step, explanation)]
    draw(
        out,
        Section(
            "The walk, widest first (> counts)",
            (
                Column("step", WHOLE),
                Column("value"),
                Column(""),
                Column("changed (UTC)", DATE),
                Column("where", WHOLE),
                Column("fate", WHOLE),
                Column("note"),
            ),
            tuple(rows),
        ),
    )
    if explained.rules:
        made = tuple(
            (
                said.rule.id,
                said.rule.severity,
                VERDICTS[said.verdict],
                (said.exempt or _leaf_words(said, walk.control)),
            )
            for said in explained.rules
        )
        draw(
            out,
            Section(
                "Rules that look at it",
                (Column("rule", WHOLE), Column("severity", WORD), Column("verdict", WORD), Column("because")),
                made,
            ),
        )
    elif walk.supported and not explanation.said:
        out.print()
        say(out, "No rule of the baseline looks at it here.", indent=2)


def _leaf_words(said: RuleExplanation, control: str) -> str:
    """Return what a rule says of a control: what is, what is due, and the reason.

    Or that its other conditions carry it.
    """
    if said.detail is None:
        return ""
    mine = [(leaf, outcome) for leaf, outcome in said.detail.leaves if leaf.name == control or leaf.about == "door"]
    words = [f"{_actual(leaf, outcome)}; {asked_text(leaf)} is due" for leaf, outcome in mine]
    if any(outcome.verdict < said.verdict for _, outcome in mine):
        words.append("the rule's other conditions make up for it")
    if said.detail.reason:
        words.append(REASONS[said.detail.reason].rstrip(".").lower())
    return "; ".join(words)


def _standing(walk: Walk, explanation: Explanation) -> str:
    if walk.scope is None:
        return ""
    hold = "not pinned, and people may change it themselves" if walk.changeable else "not pinned"
    if walk.pinned:
        hold = "pinned"
    return f"({place_text(walk.scope, explanation.snapshot)}; {hold})"


def _remarks(walk: Walk, explanation: Explanation) -> list[str]:
    """Return sentences about a value: licence, contest, delay, membership, contradiction."""
    snapshot, found = explanation.snapshot, list[str]()
    if not walk.supported:
        found.append("The service does not support this control.")
    if not walk.account:
        found.append("This person has no account on the service, so no rule judges them there.")
    licence = {
        "unavailable": "The control needs a licence that this person does not have.",
        "unknown": "The control needs a licence, and the snapshot does not say who has which.",
        "without": "Without the licence the service gives this value, whatever is set.",
    }.get(walk.licence)
    if licence:
        found.append(licence)
    if walk.contested:
        found.append(
            "Contested: "
            + "; ".join(
                f"{scope_text(scope, snapshot)} says {quoted_value_of(walk.control, value)}"
                for scope, value in walk.contested
            )
            + ". They are of equal rank: the weaker value counts."
        )
    if walk.young:
        by = f" It should have arrived by {explanation.time_of(walk.arrives)}." if walk.arrives is not None else ""
        hours = f"{walk.service.settle / 3_600_000_000:g}"
        found.append(f"Young: changed within the {hours} hours that a change may take to arrive.{by}")
    for chain in walk.chains:
        names = [scope_text(f"group:{group}", snapshot).removeprefix("group:") for group in chain]
        found.append(f"In the group {names[-1]} through {', which is in '.join(names[:-1])}.")
    if walk.seen:
        found.append(f"Really seen last: {', '.join(walk.seen)}.")
    for clash in walk.contradictions:
        value = f"{title_of(clash.control)} is {quoted_value_of(clash.control, clash.value)}"
        found.append(f"Contradiction: {value} ({place_text(clash.scope, snapshot)}). {clash.because}")
    return found


def _step(control: str, step: Step, explanation: Explanation) -> list[tuple[str, ...]]:
    if step.gap:
        return [("  " + step.name, "unknown", "ends the walk" if step.ends else "", "", "", step.gap, "")]
    if not step.settings:
        return [("  " + step.name, "–", "", "", "", "", "")]
    return [_row(control, step, setting, number == 0, explanation) for number, setting in enumerate(step.settings)]


def _fate(step: Step, setting: StepSetting) -> str:
    """Return what becomes of a setting; one that loses to another of equal rank is not outranked."""
    winner = step.settings[0]
    alike = (setting.pinned, setting.rank) == (winner.pinned, winner.rank)
    return "equal rank: the weaker counts" if setting.state == BEATEN and alike else _STATES[setting.state]


def _row(control: str, step: Step, setting: StepSetting, first: bool, explanation: Explanation) -> tuple[str, ...]:
    """Return the cells of one setting on the way to the person."""
    is_plain = step.name == setting.scope or setting.scope in ("factory", "licence")
    name = step.name if is_plain else scope_text(setting.scope, explanation.snapshot)
    marks = [
        word
        for word, there in (
            ("pinned", setting.pinned),
            (f"rank {setting.rank}", setting.rank is not None),
            ("young", setting.young),
        )
        if there
    ]
    changed = explanation.time_of(setting.changed).removesuffix(" UTC") if setting.changed is not None else ""
    return (
        ("> " if setting.state == STANDS else "  ") + (name if first or name != step.name else ""),
        value_of(control, setting.value),
        ", ".join(marks),
        changed,
        explanation.line_of(setting.row),
        _fate(step, setting),
        explanation.note_of(setting.row),
    )
