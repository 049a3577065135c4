"""A baseline's rules, one rule and the controls, for a person."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from typing import TextIO

from ...core.verdicts.uncovered import Values
from ...core.words.units import with_unit
from ..drawing import console, draw, say
from ..look import Look
from ..safe import for_terminal
from ..section import COUNT, WHOLE, WORD, Column, Section, count, cut, some
from .answer import ControlsAnswer, RuleAnswer, RulesAnswer, UncoveredAnswer, control_object, rule_object


def write_rules(answer: RulesAnswer, stream: TextIO, look: Look) -> None:
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
    columns = (Column("rule", WHOLE), Column("severity", WORD), Column("whom"), Column("what it asks"))
    with console(stream, look) as out:
        draw(out, Section(f"{baseline.name} {baseline.version}: valid, {len(rows)} rules", columns, rows))


def write_uncovered(answer: UncoveredAnswer, stream: TextIO, look: Look) -> None:
    """Writes how much no rule asks about, then what."""
    found = answer.uncovered
    with console(stream, look) as out:
        verb = "is" if len(found.controls) == 1 else "are"
        said = (
            f"{len(found.controls):,} of {count(found.of, 'control')} of your services {verb} asked about by no rule."
        )
        say(out, said, "bold")
        for section in uncovered_sections(answer, look.rows):
            draw(out, section)


def uncovered_sections(answer: UncoveredAnswer, most: int) -> Iterator[Section]:
    """The controls by service and area, the facts, and the resources."""
    index, found = answer.snapshot.catalogue.index, answer.uncovered
    made = [
        (
            each.service,
            each.control,
            index[each.control].title,
            each.settings or None,
            _shares(each.control, each.values),
        )
        for each in found.controls
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    columns = (
        Column("service", WHOLE),
        Column("control", WHOLE),
        Column("what it is", spare=1),
        Column("settings", COUNT),
        Column("what people have"),
    )
    facts, more_facts = cut([(each.name, _shares(each.name, each.values)) for each in found.facts], most, "--rows 0")
    for section in (
        Section("Controls that no rule asks about", columns, rows, more),
        Section(
            "Facts of people that no rule asks about",
            (Column("fact", WHOLE), Column("what people have")),
            facts,
            more_facts,
        ),
        Section(
            "Resources at which no rule asks for a proof",
            (Column("resource", WHOLE),),
            tuple((name,) for name in found.resources),
        ),
    ):
        if section.rows:
            yield section


def _shares(name: str, values: Values) -> str:
    """How many people have which value: the first few."""
    return some(
        [f"{'not known' if value is None else with_unit(name, value)} ({people:,})" for value, people in values]
    )


def write_controls(answer: ControlsAnswer, stream: TextIO, look: Look) -> None:
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


def write_rule(answer: RuleAnswer, stream: TextIO, look: Look) -> None:
    """Writes one rule, a line for each thing that is to be said of it."""
    rule, shown = answer.rule, rule_object(answer.rule)
    lines = [
        f"{rule.id} ({rule.severity})  {rule.title}",
        f"  asks      {shown['expects']}",
        f"  whom      {shown['audience']}" + (f", except {shown['except']}" if shown["except"] else "")
        if rule.subject == "people"
        else f"  whom      the {rule.subject}",
    ]
    lines += [f"  {key:<9} {shown[key]}" for key in ("pinned", "because", "mend") if shown[key]]
    lines += [f"  maps to   {name}: {', '.join(ids)}" for name, ids in rule.maps.items()]
    lines += [
        f"  reaches   {reach.people:,} of {reach.of:,} people{' on ' + reach.service if reach.service else ''}"
        if reach.people is not None
        else f"  reaches   unknown: {reach.why}"
        for reach in answer.reaches
    ]
    for line in lines:
        parts = textwrap.wrap(for_terminal(line), look.width, subsequent_indent=" " * 12, break_on_hyphens=False)
        stream.writelines(part + "\n" for part in parts)
