"""What a sign-in would meet: for a person, and as JSON (form sign-in/1)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TextIO

from rich.padding import Padding
from rich.text import Text

from ..core.sign_in.decide import ALLOWED, CHALLENGED, DENIED, OWN, STUCK, UNCERTAIN, Decider, Decision
from ..core.sign_in.fold import DecisionRow
from ..core.words.record import record
from ..core.words.vocabulary import CONDITION_WORDS, CONDITIONS
from .digest import Section
from .interface import Look
from .json_ import hole_object, text
from .safe import for_terminal as safe
from .table import console, draw


@record
class SignInAnswer:
    """The rows, for whom and for what; `open` says which dimensions were left out."""

    who: str
    resource: str
    rows: tuple[DecisionRow, ...]
    decider: Decider
    open: Mapping[str, bool]


def sentence(decision: Decision) -> str:
    """What the person would read, in one plain sentence."""
    if decision.outcome == ALLOWED:
        return "You are in." + (" This session is limited." if decision.longest_hours or decision.no_downloads else "")
    if decision.outcome == CHALLENGED:
        return f"Show {_wanted(decision)} to go on."
    if decision.outcome == STUCK:
        return f"You need to show {_wanted(decision)}, and cannot; ask your administrator."
    if decision.outcome == DENIED:
        if decision.partner_shut:
            return "People of your organisation may not come in here."
        if decision.uncarried:
            return "This program is too old to show what is asked for; use the browser or the app."
        return "You cannot come in like this."
    return "It cannot be told from what is known."


def _wanted(decision: Decision) -> str:
    return " and ".join(
        dict.fromkeys(
            f"({each.require.text})" if " or " in each.require.text else each.require.text for each in decision.missing
        )
    )


def by_whom(decision: Decision) -> str:
    """Which rules decide."""
    if decision.partner_shut:
        return "the partner's guests_in is off"
    if decision.outcome == UNCERTAIN:
        return "not known: " + ", ".join(decision.gaps)
    names = decision.denied_by or tuple(each.by for each in (*decision.uncarried, *decision.missing))
    if decision.outcome == ALLOWED and not names:
        return (
            "all that is asked for is shown: " + ", ".join(each.by for each in decision.asked)
            if decision.asked
            else "no rule asks for anything"
        )
    return ", ".join(dict.fromkeys(names))


def helps(decision: Decision) -> str:
    """What would help somebody who cannot get in."""
    if decision.outcome == STUCK:
        devices = [each for each in decision.missing if any("device" in proof for proof in each.require.proofs)]
        found = ["sign in from a managed (or healthy) device"] if devices else []
        if len(devices) < len(decision.missing):
            found.append("register an authenticator that gives it")
            if all(each.require.met_by(frozenset(("mfa",))) for each in decision.missing):
                found.append("have a bootstrap pass issued")
        return "; or ".join(found)
    if decision.outcome == DENIED and decision.uncarried:
        return "use the browser or the app"
    if decision.outcome == DENIED and decision.denied_by:
        return "another network, client, platform, device or risk that these rules do not speak of; or an exclusion"
    return ""


def _limits(decision: Decision) -> str:
    found = [f"{decision.longest_hours:g} hours"] if decision.longest_hours is not None else []
    return ", ".join([*found, *(["no downloads"] if decision.no_downloads else [])])


def _values(values: frozenset[str] | None, every: frozenset[str]) -> str:
    """Some of a dimension's values in the fewest words."""
    if values is None:
        return "any"
    others = every - values
    return f"not {' or '.join(sorted(others))}" if len(others) < len(values) else ", ".join(sorted(values))


def _where(row: DecisionRow, answer: SignInAnswer) -> dict[str, str]:
    networks = frozenset(each.text for each in answer.decider.gatekeeper.networks.classes)
    every = {"network": networks, **{name: frozenset(words) for name, words in CONDITION_WORDS.items()}}
    return {
        name: _values(values, every[name])
        for name, values in zip(CONDITIONS, row.values, strict=True)
        if answer.open[name]
    }


def write_sign_in(answer: SignInAnswer, stream: TextIO, look: Look) -> None:
    """Writes the answer for a person."""
    with console(stream, look) as out:
        out.print(Text(safe(f"{answer.who} signs in to {answer.resource}"), style="bold"))
        if len(answer.rows) == 1:
            row = answer.rows[0]
            lines = [f"{row.now.outcome}: {sentence(row.now)}", f"because: {by_whom(row.now)}"]
            lines += [f"what helps: {helps(row.now)}"] if helps(row.now) else []
            lines += [f"session: {_limits(row.now)}"] if _limits(row.now) else []
            if row.observed.outcome != row.now.outcome:
                lines.append(f"if the observed rules were enforced: {row.observed.outcome} ({by_whom(row.observed)})")
            for line in lines:
                out.print(Padding(Text(safe(line)), (0, 0, 0, 2)))
        else:
            names = [name for name in CONDITIONS if answer.open[name]]
            made = tuple(
                (
                    *(_where(row, answer)[name] for name in names),
                    row.now.outcome,
                    safe(by_whom(row.now)),
                    _limits(row.now),
                    ""
                    if row.observed.outcome == row.now.outcome
                    else safe(f"{row.observed.outcome} ({by_whom(row.observed)})"),
                )
                for row in answer.rows
            )
            columns = (
                *((name, False) for name in names),
                ("outcome", False),
                ("because", False),
                ("session", False),
                ("if enforced", False),
            )
            draw(out, Section("What it meets, by what was left out", columns, made))
        first = answer.rows[0]
        rules = tuple(
            (safe(rule.id), rule.mode, _match(answer, number, first), safe(rule.title))
            for number, rule in enumerate(answer.decider.gatekeeper.rules)
        )
        if rules:
            place = first.sign_in
            parts = (place.network.text, place.client, place.platform, place.device, f"risk {place.risk}")
            example = ", ".join(parts)
            draw(
                out,
                Section(
                    f"The rules, for the sign-in from {safe(example)}",
                    (("rule", False), ("mode", False), ("matches", False), ("title", False)),
                    rules,
                ),
            )


def _match(answer: SignInAnswer, number: int, row: DecisionRow) -> str:
    """Whether a rule matches, or which condition fails."""
    keeper = answer.decider.gatekeeper
    if keeper.unanswerable >> number & 1:
        return "cannot be told"
    if not keeper.whom(number)[answer.decider.person]:
        return "no: people"
    failed = keeper.rules[number].failing(row.sign_in, row.sign_in.device)
    return f"no: {failed}" if failed else "yes"


def _decision_object(decision: Decision) -> dict[str, Any]:
    return {
        "outcome": decision.outcome,
        "sentence": sentence(decision),
        "denied_by": list(decision.denied_by),
        "missing": [
            {"by": None if each.by == OWN else each.by, "require": each.require.text}
            for each in (*decision.uncarried, *decision.missing)
        ],
        "partner_shut": decision.partner_shut,
        "longest_hours": decision.longest_hours,
        "no_downloads": decision.no_downloads,
        "helps": helps(decision) or None,
        "not_known": list(decision.gaps),
    }


def write_sign_in_json(answer: SignInAnswer, stream: TextIO) -> None:
    """Writes the answer as JSON."""
    entries = []
    for row in answer.rows:
        rules = [
            {"rule": rule.id, "mode": rule.mode, "matches": _match(answer, number, row)}
            for number, rule in enumerate(answer.decider.gatekeeper.rules)
        ]
        entries.append(
            text(
                {
                    "when": _where(row, answer),
                    "example": hole_object(row.sign_in),
                    "decision": _decision_object(row.now),
                    "if_enforced": _decision_object(row.observed),
                    "rules": rules,
                }
            )
        )
    stream.write(
        f'{{"usher-gate": "sign-in/1",\n "person": {text(answer.who)}, "resource": {text(answer.resource)},\n "rows": [\n  '
    )
    stream.write(",\n  ".join(entries) + "\n ]}\n")
