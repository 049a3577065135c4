"""Holes, lock-outs and what ails the access rules: for a person, and as JSON (form holes/1)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TextIO

import numpy as np
from rich.text import Text

from ..core.organisation.access_rules import AccessRule
from ..core.organisation.snapshot import Snapshot
from ..core.sign_in.gatekeeper import Gatekeeper
from ..core.sign_in.health import Ailment
from ..core.sign_in.holes import WayIn
from ..core.sign_in.lockout import Lockout
from ..core.sign_in.possible import Asked
from ..core.words.record import record
from ..core.words.vocabulary import CONDITION_WORDS, DIMENSIONS
from .digest import Section, count
from .interface import Look
from .json_ import hole_object, text
from .safe import for_terminal as safe
from .table import console, draw


@record
class RuleHoles:
    """One proof that is asked for (rule "": by the call), and the holes in it for the people it is asked from."""

    rule: str
    title: str
    asked: Asked
    holes: tuple[WayIn, ...]
    people: int


@record
class HolesAnswer:
    """All that is told."""

    snapshot: Snapshot
    rules: tuple[RuleHoles, ...]
    lockouts: tuple[Lockout, ...]
    ailments: tuple[Ailment, ...]
    keeper: Gatekeeper


def _words(name: str, values: tuple[str, ...]) -> str:
    """Some values of a dimension in the fewest words."""
    others = [each for each in CONDITION_WORDS.get(name, ()) if each not in values]
    if others and len(others) < len(values):
        return f"not {' or '.join(others)}"
    return " or ".join(value.replace("+", " and ") for value in values)


def describe(hole: WayIn) -> str:
    """A hole in words: who comes how, from where, to what."""
    values = {name: _words(name, each) if each else "" for name, each in zip(DIMENSIONS, hole.values, strict=True)}
    client = values["client"]
    parts = [
        f"any client but {client[4:]}" if client.startswith("not ") else f"{client} clients" if client else "any client"
    ]
    parts.append(f"from {values['network'] or 'anywhere'}")
    parts.append(f"to {values['resource'] or 'any resource'}")
    parts += [f"{name} {values[name]}" for name in ("platform", "device", "risk") if values[name]]
    return ", ".join(parts)


def _rule_section(rule: RuleHoles, most: int) -> Section:
    made = tuple(
        (
            f"{len(hole.people):,}",
            safe(describe(hole)),
            safe("; ".join(hole.because)),
            "yes" if hole.observed_closes else "",
        )
        for hole in rule.holes
    )
    shown = made[:most] if most else made
    more = f"and {len(made) - len(shown)} more: --rows 0" if len(made) > len(shown) else ""
    whom = f"{rule.asked.proof} from {count(rule.people, 'person', 'people')}"
    title = f"{rule.rule + ': ' if rule.rule else ''}{whom}: {count(len(made), 'hole')}"
    columns = (("people", True), ("the way in", False), ("because", False), ("closed if enforced", False))
    return Section(safe(title), columns, shown, more)


def locked_section(title: str, lockouts: Sequence[Lockout]) -> Section:
    """Who is locked out of which resource."""
    rows = []
    for each in lockouts:
        who = ", ".join(each.people[:6]) + (" …" if len(each.people) > 6 else "")
        rows.append((safe(each.resource), f"{'ALL ' if each.all else ''}{each.of}", f"{len(each.people)}", safe(who)))
    return Section(title, (("resource", False), ("of", False), ("people", True), ("who", False)), tuple(rows))


def _reach(keeper: Gatekeeper, number: int) -> tuple[int, int]:
    """How many people a rule reaches, and how many it excludes."""
    excluded = keeper.excluded(number)
    return int(np.count_nonzero(keeper.whom(number))), 0 if excluded is None else int(np.count_nonzero(excluded))


def _rules_section(keeper: Gatekeeper) -> Section:
    rows = []
    for number, rule in enumerate(keeper.rules):
        reached, excluded = _reach(keeper, number)
        people = "not known" if keeper.unanswerable >> number & 1 else f"{reached:,}"
        rows.append(
            (safe(rule.id), rule.mode, people, f"{excluded:,}" if excluded else "·", _outcome(rule), safe(rule.title))
        )
    columns = (
        ("rule", False),
        ("mode", False),
        ("reaches", True),
        ("excludes", True),
        ("outcome", False),
        ("title", False),
    )
    return Section("The access rules", columns, tuple(rows))


def _outcome(rule: AccessRule) -> str:
    """What a rule does, in a few words."""
    if rule.deny:
        return "deny"
    return rule.require.text if rule.require is not None else "limits the session"


def write_holes(answer: HolesAnswer, stream: TextIO, look: Look) -> None:
    """Writes the answer for a person, the widest question first."""
    every = [hole for rule in answer.rules for hole in rule.holes]
    people = {person for hole in every for person in hole.people}
    closed = sum(hole.observed_closes for hole in every)
    with console(stream, look) as out:
        line = "No hole: every proof that is asked for is required everywhere."
        if every:
            line = f"{count(len(every), 'hole')} lets" if len(every) == 1 else f"{count(len(every), 'hole')} let"
            line += f" {count(len(people), 'person', 'people')} in without the proof that is asked for."
        out.print(Text(line, style="bold"))
        if closed:
            out.print(f"  {closed} of them would be closed if what is only observed were enforced.")
        for rule in answer.rules:
            section = _rule_section(rule, look.rows)
            if section.rows:
                draw(out, section)
            else:
                out.print(Text("\n" + section.title))
        ailing = tuple((safe(each.rule), safe(each.text)) for each in answer.ailments)
        ails = Section("What ails the rules themselves", (("rule", False), ("what", False)), ailing)
        for section in (locked_section("Locked out", answer.lockouts), ails, _rules_section(answer.keeper)):
            if section.rows:
                draw(out, section)


def write_holes_json(answer: HolesAnswer, stream: TextIO) -> None:
    """Writes the answer as JSON."""
    ids = answer.snapshot.people.ids
    entries = [
        text(
            {
                "rule": rule.rule or None,
                "proof": rule.asked.proof,
                "people": len(hole.people),
                "ids": ids.take(np.array(hole.people)),
                "way": describe(hole),
                "values": {
                    name: None if values is None else list(values)
                    for name, values in zip(DIMENSIONS, hole.values, strict=True)
                },
                "because": list(hole.because),
                "observed_closes": hole.observed_closes,
                "example": hole_object(hole.sign_in),
            }
        )
        for rule in answer.rules
        for hole in rule.holes
    ]
    locked = [
        text({"resource": each.resource, "people": list(each.people), "of": each.of, "all": each.all})
        for each in answer.lockouts
    ]
    ailing = [text({"rule": each.rule, "what": each.what, "text": each.text}) for each in answer.ailments]
    rules = []
    for number, each in enumerate(answer.keeper.rules):
        reached, excluded = _reach(answer.keeper, number)
        known = not answer.keeper.unanswerable >> number & 1
        counted = {"reaches": reached if known else None, "excludes": excluded if known else None}
        rules.append(
            text({"id": each.id, "title": each.title, "mode": each.mode, **counted, "outcome": _outcome(each)})
        )
    stream.write('{"usher-gate": "holes/1"')
    for name, rows in (("holes", entries), ("lockouts", locked), ("ailments", ailing), ("rules", rules)):
        stream.write(f',\n "{name}": [' + ("\n  " + ",\n  ".join(rows) + "\n " if rows else "") + "]")
    stream.write("}\n")
