"""Several parts of an organisation checked side by side: the same rules for each, as a table, Markdown, CSV and JSON (sides/1)."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from typing import TextIO

import numpy as np

from ...core.verdicts.codes import DRIFTS, EXEMPT, SHOWN_ORDER, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import Rule
from ...core.words.record import record
from ...core.words.vocabulary import SEVERITIES
from ..json_text import counts, text, write_form
from ..look import Look
from ..page import Page, page_markdown, page_table
from ..safe import for_spreadsheet
from ..section import WHOLE, WORD, Cell, Column, Section, count, cut, joined
from .headline import alarms, doubts


@record
class SidesAnswer:
    """The parts by name, such as `unit:/Fleet`, each with its own check."""

    sides: tuple[tuple[str, CheckResult], ...]
    notes: tuple[str, ...]


def _people(result: CheckResult) -> int:
    return int(np.count_nonzero(result.chosen))


def _rules(answer: SidesAnswer) -> list[Rule]:
    """The rules that some side drifts from, or does not know about: the worst first."""
    every = {rule.id: rule for _, result in answer.sides for rule in result.rules}
    bad = (DRIFTS, UNKNOWN, UNAVAILABLE)
    found = {
        name: max(result.rule_counts[name][DRIFTS] for _, result in answer.sides if name in result.rule_counts)
        for name in every
        if any(
            result.rule_counts[name][code] for _, result in answer.sides if name in result.rule_counts for code in bad
        )
    }
    ordered = sorted(
        found, key=lambda name: (not found[name], SEVERITIES.index(every[name].severity), -found[name], name)
    )
    return [every[name] for name in ordered]


def _cell(result: CheckResult, rule: Rule) -> str:
    """How many verdicts of a rule drift, of how many; and how many are not known."""
    found = result.rule_counts.get(rule.id)
    if found is None:
        return "not asked"
    asked = sum(found) - found[EXEMPT]
    unknown = found[UNKNOWN] + found[UNAVAILABLE]
    said = f"{found[DRIFTS]:,} of {asked:,}" if asked else "none asked"
    return f"{said}, {unknown:,} unknown" if unknown else said


def sides_page(answer: SidesAnswer, most: int) -> Page:
    """First what must be said before everything else, then who drifts where, then rule by rule."""
    said = [
        f"{name}: {result.drifting_people:,} of {count(_people(result), 'person drifts', 'people drift')}"
        for name, result in answer.sides
    ]
    made: list[tuple[Cell, ...]] = [
        (rule.id, rule.severity, *(_cell(result, rule) for _, result in answer.sides), rule.title)
        for rule in _rules(answer)
    ]
    rows, more = cut(made, most, "--rows 0, or --format json")
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD),
        *(Column(name) for name, _ in answer.sides),
        Column("what it asks", spare=1),
    )
    sections = (Section("Verdicts that drift, of those asked for", columns, rows, more),) if rows else ()
    details = [] if rows else ["No rule drifts on any side, and nothing is unknown."]
    whole = answer.sides[0][1]
    lines = [*alarms(whole), *doubts(whole), f"{joined(said)}."]
    return Page(lines[0], (*lines[1:], *details), sections)


def write_sides(answer: SidesAnswer, stream: TextIO, look: Look) -> None:
    """For a person at a terminal."""
    page_table(sides_page(answer, look.rows), stream, look)


def write_sides_markdown(answer: SidesAnswer, stream: TextIO, look: Look) -> None:
    """As Markdown."""
    page_markdown(sides_page(answer, look.rows), answer.notes, stream)


def _counts(answer: SidesAnswer) -> Iterator[tuple[Rule, str, tuple[int, ...]]]:
    """Every rule on every side that asks it, with its verdicts by code."""
    for name, result in answer.sides:
        for rule in result.rules:
            yield rule, name, result.rule_counts[rule.id]


def write_sides_csv(answer: SidesAnswer, stream: TextIO, _look: Look) -> None:
    """One row for each rule and side."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(("rule", "severity", "side", *SHOWN_ORDER))
    for rule, name, by_code in _counts(answer):
        shown = counts(by_code).values()
        writer.writerow((for_spreadsheet(rule.id), rule.severity, for_spreadsheet(name), *shown))


def write_sides_json(answer: SidesAnswer, stream: TextIO, _look: Look) -> None:
    """As JSON."""
    sides = [
        {"name": name, "people": _people(result), "drifting_people": result.drifting_people}
        for name, result in answer.sides
    ]
    rules = [
        {
            "rule": rule.id,
            "severity": rule.severity,
            "side": name,
            "verdicts": counts(by_code),
        }
        for rule, name, by_code in _counts(answer)
    ]
    lists = (
        ("sides", [text(each) for each in sides]),
        ("rules", [text(each) for each in rules]),
        ("notes", [text(note) for note in answer.notes]),
    )
    write_form(stream, "sides/1", answer.sides[0][1].snapshot, [], lists)
