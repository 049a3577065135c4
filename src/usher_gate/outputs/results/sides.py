"""Parts of an organisation, checked side by side."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.verdicts.codes import DRIFTS, SHOWN_ORDER, UNAVAILABLE, UNKNOWN, VERDICTS
from ...core.verdicts.result import CheckResult
from ...core.verdicts.rules import Rule
from ...core.words.record import record
from ...core.words.vocabulary import SEVERITIES
from ..fields import COUNT, NOTES, TEXT, VERDICT_COUNTS, Field, list_of, object_of
from ..writers import Result, Rows, head_of
from .common import SEVERITY


@record
class SidesAnswer:
    """The parts by name, such as `unit:/Fleet`, each with its own check."""

    sides: tuple[tuple[str, CheckResult], ...]
    notes: tuple[str, ...]


def people_count(result: CheckResult) -> int:
    """Return how many active people a check is about."""
    return int(np.count_nonzero(result.chosen))


def listed_rules(answer: SidesAnswer) -> list[Rule]:
    """Return the rules with verdicts that drift or are not known on some side, the worst first."""
    rules = {rule.id: rule for _, result in answer.sides for rule in result.rules}
    drift_count = dict.fromkeys(rules, 0)
    listed = set[str]()
    for rule, _, by_code in verdict_counts_of(answer):
        drift_count[rule.id] = max(drift_count[rule.id], by_code[DRIFTS])
        if by_code[DRIFTS] or by_code[UNKNOWN] or by_code[UNAVAILABLE]:
            listed.add(rule.id)

    def key(name: str) -> tuple[bool, int, int, str]:
        return not drift_count[name], SEVERITIES.index(rules[name].severity), -drift_count[name], name

    return [rules[name] for name in sorted(listed, key=key)]


def verdict_counts_of(answer: SidesAnswer) -> Iterator[tuple[Rule, str, tuple[int, ...]]]:
    """Yield every rule of every side with its number of verdicts by code."""
    for name, result in answer.sides:
        for rule in result.rules:
            yield rule, name, result.rule_counts[rule.id]


_SIDE = Field("side", TEXT, "The part of the organisation.", "1")
_RULE = Field("rule", TEXT, "The rule.", "0.id")
_SEVERITY = Field("severity", SEVERITY.type, SEVERITY.says, "0.severity")
_VERDICTS = Field("verdicts", VERDICT_COUNTS, "Its verdicts there.", "2")
_PART = (
    Field("name", TEXT, "The part of the organisation.", "0"),
    Field("people", COUNT, "How many active people it has.", lambda pair: people_count(pair[1])),
    Field("drifting_people", COUNT, "How many of them drift.", "1.drifting_people"),
)
SIDES = Result(
    schema="sides/1",
    says="Parts of an organisation, checked side by side.",
    lists=(
        Field("sides", list_of(object_of(_PART)), "The parts."),
        Field(
            "rules",
            list_of(object_of((_RULE, _SEVERITY, _SIDE, _VERDICTS))),
            "Each rule of each part.",
            verdict_counts_of,
        ),
        NOTES,
    ),
    csv=(
        Rows(
            "`check --compare`: a row for each rule of each part",
            (
                _RULE,
                _SEVERITY,
                _SIDE,
                *(
                    Field(name, COUNT, f"Verdicts that are {name}.", f"2.{VERDICTS.index(name)}")
                    for name in SHOWN_ORDER
                ),
            ),
            verdict_counts_of,
        ),
    ),
    head=lambda answer: head_of(answer.sides[0][1].snapshot),
)
