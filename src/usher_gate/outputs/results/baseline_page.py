"""A baseline's rules, one rule and the controls, for a person."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from typing import TextIO

from ...core.verdicts.uncovered import Values
from ...core.words.plural import plural
from ..drawing import console, draw, say
from ..render_options import RenderOptions
from ..safe import for_terminal
from ..section import COUNT, WHOLE, WORD, Column, Section, listed, some
from ..titles import title_of, value_of
from .baseline import ControlsAnswer, RuleAnswer, RuleReach, RulesAnswer, UncoveredAnswer, control_object, rule_object


def write_rules(answer: RulesAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes the rules, one a row."""
    baseline = answer.baseline
    rows = tuple(
        (
            rule.id,
            rule.severity,
            rule.audience.text if rule.subject == "people" else f"the {rule.subject}",
            rule.title,
        )
        for rule in baseline.rules
    )
    columns = (Column("rule", WHOLE), Column("severity", WORD), Column("for"), Column("what it asks"))
    with console(stream, look) as out:
        draw(out, Section(f"{baseline.name} {baseline.version}: valid, {len(rows)} rules", columns, rows))


def write_uncovered(answer: UncoveredAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes how much no rule asks about, then what."""
    found = answer.uncovered
    with console(stream, look) as out:
        verb = "is" if len(found.controls) == 1 else "are"
        said = (
            f"{len(found.controls):,} of {plural(found.of, 'control')} of your services {verb} asked about by no rule."
        )
        say(out, said, "bold")
        for section in uncovered_sections(answer, look.rows):
            draw(out, section)


def uncovered_sections(answer: UncoveredAnswer, most: int) -> Iterator[Section]:
    """Yield the controls by service and area, the facts, and the resources."""
    index, found = answer.snapshot.catalogue.index, answer.uncovered
    made = [
        (
            each.service,
            title_of(each.control),
            index[each.control].about,
            each.settings or None,
            _shares(each.control, each.values),
        )
        for each in found.controls
    ]
    columns = (
        Column("service", WHOLE),
        Column("control", WHOLE),
        Column("what it is", spare=1),
        Column("settings", COUNT),
        Column("what people have"),
    )
    facts = [(each.name, _shares(each.name, each.values)) for each in found.facts]
    of_facts = (Column("fact", WHOLE), Column("what people have"))
    for section in (
        listed("", "Controls that no rule asks about", columns, made, most),
        listed("", "Facts of people that no rule asks about", of_facts, facts, most),
        Section(
            "Resources at which no rule asks for a proof",
            (Column("resource", WHOLE),),
            tuple((name,) for name in found.resources),
        ),
    ):
        if section.rows:
            yield section


def _shares(name: str, values: Values) -> str:
    """Return how many people have which value: the first few."""
    return some([f"{'not known' if value is None else value_of(name, value)} ({people:,})" for value, people in values])


def write_controls(answer: ControlsAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes the controls, one a row."""
    rows = tuple(
        (
            row["id"],
            row["kind"],
            " < ".join(row["values"]) or (f"{row['strict']} is stricter" if row["strict"] else "words joined by ;"),
            row["title"],
        )
        for row in map(control_object, answer.controls)
    )
    columns = (Column("control"), Column("kind"), Column("values, the weakest first"), Column("what it is"))
    with console(stream, look) as out:
        draw(out, Section(f"{len(rows)} controls", columns, rows))


def _reach_text(reach: RuleReach) -> str:
    if reach.people is None:
        return f"unknown: {reach.why}"
    return f"{reach.people:,} of {reach.of:,} people" + (f" on {reach.service}" if reach.service else "")


def write_rule(answer: RuleAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Writes one rule, a line for each thing that is to be said of it."""
    rule, shown = answer.rule, rule_object(answer.rule)
    for_people = f"{shown['audience']}" + (f", except {shown['except']}" if shown["except"] else "")
    lines = [
        f"{rule.id} ({rule.severity})  {rule.title}",
        f"  asks      {shown['expects']}",
        f"  for       {for_people if rule.subject == 'people' else f'the {rule.subject}'}",
    ]
    lines += [f"  {key:<9} {shown[key]}" for key in ("pinned", "because", "mend") if shown[key]]
    lines += [f"  maps to   {name}: {', '.join(ids)}" for name, ids in rule.maps.items()]
    lines += [f"  reaches   {_reach_text(reach)}" for reach in answer.reaches]
    for line in lines:
        parts = textwrap.wrap(for_terminal(line), look.width, subsequent_indent=" " * 12, break_on_hyphens=False)
        stream.writelines(part + "\n" for part in parts)
