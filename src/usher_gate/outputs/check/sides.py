"""Parts of an organisation checked side by side, as a table, Markdown, CSV and JSON (form sides/1)."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from typing import TextIO

import numpy as np

from ...core.verdicts.codes import DRIFTS, EXEMPT, SHOWN_ORDER, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import Rule
from ...core.words.plural import plural
from ...core.words.record import record
from ...core.words.vocabulary import SEVERITIES
from ..json_text import counts, text, write_form
from ..page import Page, page_markdown, page_table
from ..render_options import RenderOptions
from ..safe import for_spreadsheet
from ..section import WHOLE, WORD, Cell, Column, Section, cut, joined
from .headline import alarms, doubts


@record
class SidesAnswer:
    """The parts by name, such as `unit:/Fleet`, each with its own check."""

    sides: tuple[tuple[str, CheckResult], ...]
    notes: tuple[str, ...]


def _people_count(result: CheckResult) -> int:
    return int(np.count_nonzero(result.chosen))


def _listed_rules(answer: SidesAnswer) -> list[Rule]:
    """Return the rules with verdicts that drift or are not known on some side, the worst first."""
    rules = {rule.id: rule for _, result in answer.sides for rule in result.rules}
    drift_count = dict.fromkeys(rules, 0)
    listed = set[str]()
    for rule, _, by_code in _verdict_counts(answer):
        drift_count[rule.id] = max(drift_count[rule.id], by_code[DRIFTS])
        if by_code[DRIFTS] or by_code[UNKNOWN] or by_code[UNAVAILABLE]:
            listed.add(rule.id)

    def key(name: str) -> tuple[bool, int, int, str]:
        return not drift_count[name], SEVERITIES.index(rules[name].severity), -drift_count[name], name

    return [rules[name] for name in sorted(listed, key=key)]


def _verdict_counts(answer: SidesAnswer) -> Iterator[tuple[Rule, str, tuple[int, ...]]]:
    """Yield every rule of every side with its number of verdicts by code."""
    for name, result in answer.sides:
        for rule in result.rules:
            yield rule, name, result.rule_counts[rule.id]


def _cell(result: CheckResult, rule: Rule) -> str:
    """Return how many of a rule's verdicts drift, and how many are not known."""
    by_code = result.rule_counts.get(rule.id)
    if by_code is None:
        return "not asked"
    judged_count = sum(by_code) - by_code[EXEMPT]
    unknown_count = by_code[UNKNOWN] + by_code[UNAVAILABLE]
    drifting = f"{by_code[DRIFTS]:,} of {judged_count:,}" if judged_count else "no one judged"
    return f"{drifting}, {unknown_count:,} unknown" if unknown_count else drifting


def sides_page(answer: SidesAnswer, most: int) -> Page:
    """Return the page: lock-outs and doubts, how many people drift on each side, then the rules."""
    drifting = [
        f"{name}: {result.drifting_people:,} of {plural(_people_count(result), 'person drifts', 'people drift')}"
        for name, result in answer.sides
    ]
    cells: list[tuple[Cell, ...]] = [
        (rule.id, rule.severity, *(_cell(result, rule) for _, result in answer.sides), rule.title)
        for rule in _listed_rules(answer)
    ]
    rows, more = cut(cells, most, "--rows 0, or --format json")
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD),
        *(Column(name) for name, _ in answer.sides),
        Column("what it asks", spare=1),
    )
    sections = (Section("Verdicts that drift, of those judged", columns, rows, more),) if rows else ()
    first_result = answer.sides[0][1]
    lines = [*alarms(first_result), *doubts(first_result), f"{joined(drifting)}."]
    lines += [] if rows else ["No rule drifts on any side, and nothing is unknown."]
    return Page(lines[0], tuple(lines[1:]), sections)


def write_sides(answer: SidesAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Write the page for a terminal."""
    page_table(sides_page(answer, look.rows), stream, look)


def write_sides_markdown(answer: SidesAnswer, stream: TextIO, look: RenderOptions) -> None:
    """Write the page as Markdown."""
    page_markdown(sides_page(answer, look.rows), answer.notes, stream)


def write_sides_csv(answer: SidesAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Write one row for each rule and side."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(("rule", "severity", "side", *SHOWN_ORDER))
    for rule, name, by_code in _verdict_counts(answer):
        writer.writerow((for_spreadsheet(rule.id), rule.severity, for_spreadsheet(name), *counts(by_code).values()))


def write_sides_json(answer: SidesAnswer, stream: TextIO, _look: RenderOptions) -> None:
    """Write the parts, then each rule of each part."""
    sides = [
        {"name": name, "people": _people_count(result), "drifting_people": result.drifting_people}
        for name, result in answer.sides
    ]
    rules = [
        {"rule": rule.id, "severity": rule.severity, "side": name, "verdicts": counts(by_code)}
        for rule, name, by_code in _verdict_counts(answer)
    ]
    lists = (("sides", map(text, sides)), ("rules", map(text, rules)), ("notes", map(text, answer.notes)))
    write_form(stream, "sides/1", answer.sides[0][1].snapshot, [], lists)
