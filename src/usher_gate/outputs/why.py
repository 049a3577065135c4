"""Where one person's value or verdict comes from: for a person, and as JSON."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TextIO

from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from ..core.settings.walk import AFTER_PIN, BEATEN, OVERRIDDEN, STANDS, Step, StepSetting, Walk
from ..core.verdicts.codes import VERDICTS
from ..core.verdicts.explain import ExplainedValue, Said
from ..core.words.record import record
from ..core.words.vocabulary import REASONS
from .digest import Section, place_text
from .interface import Look
from .json_ import leaf_object, text
from .safe import for_terminal as safe
from .table import STYLES, console, draw

_STATES = {
    STANDS: "counts",
    OVERRIDDEN: "overruled",
    BEATEN: "outranked",
    AFTER_PIN: "cut off",
}


@record
class Person:
    """Whom the explanation is about."""

    id: str
    login: str
    name: str
    kind: str
    unit: str | None

    @property
    def text(self) -> str:
        """The person in words."""
        named = f"{self.name} ({self.login})" if self.name else self.login
        return safe(f"{named}, {self.kind}{f', in {self.unit}' if self.unit else ', in no unit'}")


@record
class Explanation:
    """All that is to be explained. `line_of` turns a setting's row into FILE:LINE, `time_of` a time into words."""

    person: Person
    asked: str
    walks: tuple[ExplainedValue, ...]
    said: tuple[Said, ...]
    line_of: Callable[[int], str]
    time_of: Callable[[int], str]


def write_why(explanation: Explanation, stream: TextIO, look: Look) -> None:
    """Writes the explanation for a person."""
    with console(stream, look) as out:
        out.print(Text(explanation.person.text, style="bold"))
        for said in explanation.said:
            _said(out, said)
        for explained in explanation.walks:
            _walk(out, explained, explanation)


def _said(out: Console, said: Said) -> None:
    out.print()
    where = f" on {said.service}" if said.service else ""
    verdict = VERDICTS[said.verdict]
    out.print(
        Text.assemble(
            (f"{said.rule.id}{where}: ", "bold"),
            (verdict, STYLES.get(verdict, "")),
            f"  ({said.rule.severity}) {safe(said.rule.title)}",
        )
    )
    lines = [f"The rule does not apply: {said.exempt}."] if said.exempt else []
    if said.tail is not None:
        if said.tail.reason:
            lines.append(REASONS[said.tail.reason])
        if said.tail.would_be is not None:
            lines.append(f"Without the exception {said.tail.exception} it would be: {VERDICTS[said.tail.would_be]}.")
    if said.rule.because:
        lines.append(f"Why it is asked: {said.rule.because}")
    if said.rule.mend and said.verdict < VERDICTS.index("meets"):
        lines.append(f"What mends it: {said.rule.mend}")
    for line in lines:
        out.print(Padding(Text(safe(line)), (0, 0, 0, 2)))
    if said.tail is not None and said.tail.leaves:
        rows = tuple(
            (
                ">" if leaf.number == said.tail.decided else "",
                safe(f"{leaf.about} {leaf.name}"),
                safe(outcome.actual or "(not known)" if outcome.actual is None else outcome.actual or "(nothing)"),
                safe(leaf.expected),
                VERDICTS[outcome.verdict],
                safe(place_text(outcome.cause.scope) if outcome.cause and outcome.cause.scope else ""),
            )
            for leaf, outcome in said.tail.leaves
        )
        draw(
            out,
            Section(
                "What was compared (> decides)" if len(rows) > 1 else "What was compared",
                (
                    ("", False),
                    ("what", False),
                    ("is", False),
                    ("should be", False),
                    ("verdict", False),
                    ("where", False),
                ),
                rows,
            ),
        )


def _walk(out: Console, explained: ExplainedValue, explanation: Explanation) -> None:
    walk = explained.walk
    out.print()
    value = "is not known" if walk.value is None else f"is {walk.value or '(nothing)'}"
    out.print(Text.assemble((safe(f"{walk.service.id}: {walk.control} {value}"), "bold"), safe(f"  {_standing(walk)}")))
    for line in _remarks(walk):
        out.print(Padding(Text(safe(line)), (0, 0, 0, 2)))
    rows = [row for step in walk.steps for row in _step(step, explanation)]
    draw(
        out,
        Section(
            "The walk, widest first (> counts)",
            (
                ("step", False),
                ("value", False),
                ("", False),
                ("changed (UTC)", False),
                ("where", False),
                ("fate", False),
            ),
            tuple(rows),
        ),
    )
    if explained.rules:
        made = tuple(
            (
                safe(said.rule.id),
                said.rule.severity,
                VERDICTS[said.verdict],
                safe(said.exempt or _leaf_words(said, walk.control)),
            )
            for said in explained.rules
        )
        draw(
            out,
            Section(
                "Rules that look at it",
                (("rule", False), ("severity", False), ("verdict", False), ("because", False)),
                made,
            ),
        )
    elif walk.supported and not explanation.said:
        out.print(Padding(Text("No rule of the baseline looks at it here."), (1, 0, 0, 2)))


def _leaf_words(said: Said, control: str) -> str:
    """What a rule says of a control: what is, what is due, and the reason; or that its other conditions carry it."""
    if said.tail is None:
        return ""
    mine = [(leaf, outcome) for leaf, outcome in said.tail.leaves if leaf.name == control]
    words = [
        f"{'not known' if outcome.actual is None else outcome.actual}; {leaf.expected} is due" for leaf, outcome in mine
    ]
    if any(outcome.verdict < said.verdict for _, outcome in mine):
        words.append("the rule's other conditions make up for it")
    if said.tail.reason:
        words.append(REASONS[said.tail.reason].rstrip(".").lower())
    return "; ".join(words)


def _standing(walk: Walk) -> str:
    if walk.scope is None:
        return ""
    hold = (
        "pinned"
        if walk.pinned
        else "not pinned, and people may change it themselves"
        if walk.changeable
        else "not pinned"
    )
    return f"({place_text(walk.scope)}; {hold})"


def _remarks(walk: Walk) -> list[str]:
    found = []
    if not walk.supported:
        found.append("The service does not support this control.")
    if not walk.account:
        found.append("This person has no account on the service, so no rule judges them there.")
    licence = {
        "unavailable": "The control needs a licence that this person does not have.",
        "unknown": "The control needs a licence, and the snapshot does not tell who has which.",
        "without": "Without the licence the service gives this value, whatever is set.",
    }.get(walk.licence)
    if licence:
        found.append(licence)
    if walk.contested:
        found.append(
            "Contested: "
            + "; ".join(f"{scope} says {value}" for scope, value in walk.contested)
            + " with the same standing."
        )
    if walk.young:
        found.append(
            f"Young: changed within the {walk.service.settle / 3_600_000_000:g} hours that a change may take to arrive."
        )
    if walk.seen:
        found.append(f"Really seen last: {', '.join(walk.seen)}.")
    found += [
        f"Contradiction: {each.control} is {each.value} ({place_text(each.scope)}). {each.because}"
        for each in walk.contradictions
    ]
    return found


def _step(step: Step, explanation: Explanation) -> list[tuple[str, ...]]:
    if step.gap:
        return [("  " + step.name, "unknown", "ends the walk" if step.ends else "", "", "", safe(step.gap))]
    if not step.settings:
        return [("  " + safe(step.name), "–", "", "", "", "")]
    return [_row(step, setting, number == 0, explanation) for number, setting in enumerate(step.settings)]


def _row(step: Step, setting: StepSetting, first: bool, explanation: Explanation) -> tuple[str, ...]:
    name = step.name if step.name == setting.scope or setting.scope in ("factory", "licence") else setting.scope
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
        ("> " if setting.state == STANDS else "  ") + safe(name if first or name != step.name else ""),
        safe(setting.value or "(nothing)"),
        ", ".join(marks),
        changed,
        safe(explanation.line_of(setting.row)),
        _STATES[setting.state],
    )


def _setting_object(setting: StepSetting, explanation: Explanation) -> dict[str, Any]:
    return {
        "scope": setting.scope,
        "value": setting.value,
        "pinned": setting.pinned,
        "rank": setting.rank,
        "changed_at": None if setting.changed is None else explanation.time_of(setting.changed),
        "young": setting.young,
        "at": explanation.line_of(setting.row) or None,
        "state": setting.state,
    }


def _said_object(said: Said) -> dict[str, Any]:
    tail = said.tail
    return {
        "rule": said.rule.id,
        "severity": said.rule.severity,
        "title": said.rule.title,
        "service": said.service,
        "verdict": VERDICTS[said.verdict],
        "reason": tail.reason if tail else said.exempt,
        "leaves": [leaf_object(leaf, outcome) for leaf, outcome in tail.leaves] if tail else [],
        "exception": tail.exception if tail else None,
        "would_be": VERDICTS[tail.would_be] if tail and tail.would_be is not None else None,
    }


def _walk_object(explained: ExplainedValue, explanation: Explanation) -> dict[str, Any]:
    walk = explained.walk
    return {
        "service": walk.service.id,
        "control": walk.control,
        "supported": walk.supported,
        "account": walk.account,
        "value": walk.value,
        "scope": walk.scope,
        "pinned": walk.pinned,
        "changeable": walk.changeable,
        "young": walk.young,
        "licence": walk.licence or None,
        "contested": [{"scope": scope, "value": value} for scope, value in walk.contested],
        "seen": list(walk.seen),
        "steps": [
            {
                "step": step.name,
                "gap": step.gap or None,
                "ends_the_walk": step.ends,
                "settings": [_setting_object(setting, explanation) for setting in step.settings],
            }
            for step in walk.steps
        ],
        "rules": [_said_object(said) for said in explained.rules],
        "contradictions": [
            {"control": each.control, "value": each.value, "scope": each.scope} for each in walk.contradictions
        ],
    }


def _listed(entries: Sequence[str]) -> str:
    return "[" + ("\n  " + ",\n  ".join(entries) + "\n ]" if entries else "]")


def write_why_json(explanation: Explanation, stream: TextIO) -> None:
    """Writes the explanation as JSON (form why/1)."""
    person = explanation.person
    subject = {
        "id": person.id,
        "login": person.login,
        "name": person.name or None,
        "kind": person.kind,
        "unit": person.unit,
    }
    stream.write('{"usher-gate": "why/1",\n')
    stream.write(f' "person": {text(subject)}, "asked": {text(explanation.asked)},\n')
    stream.write(f' "verdicts": {_listed([text(_said_object(said)) for said in explanation.said])},\n')
    stream.write(f' "walks": {_listed([text(_walk_object(walk, explanation)) for walk in explanation.walks])}}}\n')
