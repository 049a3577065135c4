"""Parts of an organisation checked side by side, for people: a first line, lines of detail and a table."""

from __future__ import annotations

from ...core.verdicts.codes import DRIFTS, EXEMPT, UNAVAILABLE, UNKNOWN
from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import Rule
from ...core.words.plural import plural
from ..check.headline import alarms, doubts
from ..page import Page
from ..section import WHOLE, WORD, Cell, Column, joined, listed
from .sides import SidesAnswer, listed_rules, people_count


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
        f"{name}: {result.drifting_people:,} of {plural(people_count(result), 'person drifts', 'people drift')}"
        for name, result in answer.sides
    ]
    cells: list[tuple[Cell, ...]] = [
        (rule.id, rule.severity, *(_cell(result, rule) for _, result in answer.sides), rule.title)
        for rule in listed_rules(answer)
    ]
    columns = (
        Column("rule", WHOLE),
        Column("severity", WORD),
        *(Column(name) for name, _ in answer.sides),
        Column("what it asks", spare=1),
    )
    sections = (listed("", "Verdicts that drift, of those judged", columns, cells, most),)
    first_result = answer.sides[0][1]
    lines = [*alarms(first_result), *doubts(first_result), f"{joined(drifting)}."]
    lines += [] if cells else ["No rule drifts on any side, and nothing is unknown."]
    return Page(lines[0], tuple(lines[1:]), sections)
