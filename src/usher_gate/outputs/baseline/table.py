"""A baseline's rules, one rule and the controls, for a person."""

from __future__ import annotations

import textwrap
from typing import TextIO

from ..drawing import console, draw
from ..look import Look
from ..safe import for_terminal
from ..section import WHOLE, WORD, Column, Section
from .answer import ControlsAnswer, RuleAnswer, RulesAnswer, control_object, rule_object


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
