"""The report's last part: every drift, the worst first, as far as a page can hold them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.verdicts.codes import DRIFTS
from ...core.verdicts.outcome import Tail
from ...core.verdicts.result import Block, CheckResult, OtherFinding
from ...core.words.record import record
from ...core.words.units import with_unit
from ...core.words.vocabulary import SEVERITIES
from ..check.digest import expected_text
from ..section import scope_text

MOST = 2_000


@record
class Drift:
    """One drift, as its cells are shown; `rank` orders severities."""

    severity: str
    rank: int
    rule: str
    whose: str
    name: str
    unit: str
    service: str
    actual: str
    due: str
    place: str


def annex(result: CheckResult, most: int = MOST) -> tuple[list[Drift], int]:
    """The worst drifts by severity, rule, service and subject, at most `most` of them; and how many there are in all."""
    ordered = sorted(
        result.findings(),
        key=lambda finding: (SEVERITIES.index(finding.rule.severity), finding.rule.id, finding.service or ""),
    )
    made: list[Drift] = []
    whole = 0
    for finding in ordered:
        if isinstance(finding, OtherFinding):
            if finding.tail.verdict == DRIFTS:
                whole += 1
                if len(made) < most:
                    name = " ".join(finding.subject)
                    made.append(_drift(finding, finding.tail, finding.label or name, name, "", result))
            continue
        drifting = np.array([tail.verdict == DRIFTS for tail in finding.tails], bool)[finding.tail]
        whole += int(drifting.sum())
        made += _people(finding, np.flatnonzero(drifting)[: most - len(made)], result)
    return made, whole


def _people(block: Block, rows: np.ndarray[tuple[int], np.dtype[np.int64]], result: CheckResult) -> Iterator[Drift]:
    people = result.snapshot.people
    chosen = block.people[rows]
    names = people.names.take(chosen) if people.names is not None else [""] * len(chosen)
    units = ["", *(people.unit.words if people.unit is not None else ())]
    codes = people.unit.codes[chosen].tolist() if people.unit is not None else [-1] * len(chosen)
    for login, name, code, tail in zip(
        people.logins.take(chosen), names, codes, block.tail[rows].tolist(), strict=True
    ):
        yield _drift(block, block.tails[tail], login, name, units[code + 1], result)


def _drift(finding: Block | OtherFinding, tail: Tail, whose: str, name: str, unit: str, result: CheckResult) -> Drift:
    rule = finding.rule
    leaf, outcome = tail.deciding or (None, None)
    cause = outcome.cause if outcome is not None else None
    line = result.cause_line(finding.service, leaf.name if leaf is not None else "", cause)
    actual = tail.reason
    if leaf is not None and outcome is not None and outcome.actual is not None:
        actual = with_unit(leaf.name, outcome.actual)
    return Drift(
        rule.severity,
        SEVERITIES.index(rule.severity),
        rule.id,
        whose,
        name,
        unit,
        finding.service or "",
        f"{leaf.name} {actual}" if leaf is not None and leaf.name else actual,
        expected_text(leaf) if leaf is not None else "",
        " ".join(
            filter(
                None,
                (
                    scope_text(cause.scope or "", result.snapshot) if cause is not None else "",
                    f"({line})" if line else "",
                ),
            )
        ),
    )
