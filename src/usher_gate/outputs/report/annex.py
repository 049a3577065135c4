"""The report's last part: every finding, the worst first, as far as a page can hold them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.verdicts.areas import areas_of
from ...core.verdicts.codes import DRIFTS
from ...core.verdicts.outcome import VerdictDetail
from ...core.verdicts.result import CheckResult, FindingBlock, OtherFinding
from ...core.words.record import record
from ...core.words.vocabulary import SEVERITIES
from ..check.digest import actual_text
from ..section import scope_text
from ..titles import asked_text

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
    areas: str  # of the rule, joined by a blank


def annex(result: CheckResult, most: int = MOST) -> tuple[list[Drift], int]:
    """Return the worst drifts by severity, rule, service and subject, at most `most` of them.

    And how many there are in all.
    """
    ordered = sorted(
        result.findings(),
        key=lambda finding: (SEVERITIES.index(finding.rule.severity), finding.rule.id, finding.service or ""),
    )
    made: list[Drift] = []
    whole = 0
    for finding in ordered:
        if isinstance(finding, OtherFinding):
            if finding.detail.verdict == DRIFTS:
                whole += 1
                if len(made) < most:
                    name = " ".join(finding.subject)
                    made.append(_drift(finding, finding.detail, finding.label or name, name, "", result))
            continue
        drifting = np.array([detail.verdict == DRIFTS for detail in finding.details], bool)[finding.detail]
        whole += int(drifting.sum())
        made += _people(finding, np.flatnonzero(drifting)[: most - len(made)], result)
    return made, whole


def _people(
    block: FindingBlock, rows: np.ndarray[tuple[int], np.dtype[np.int64]], result: CheckResult
) -> Iterator[Drift]:
    people = result.snapshot.people
    chosen = block.people[rows]
    names = people.names.take(chosen) if people.names is not None else [""] * len(chosen)
    units = ["", *(people.unit.words if people.unit is not None else ())]
    codes = people.unit.codes[chosen].tolist() if people.unit is not None else [-1] * len(chosen)
    for login, name, code, detail in zip(
        people.logins.take(chosen), names, codes, block.detail[rows].tolist(), strict=True
    ):
        yield _drift(block, block.details[detail], login, name, units[code + 1], result)


def _drift(
    finding: FindingBlock | OtherFinding, detail: VerdictDetail, whose: str, name: str, unit: str, result: CheckResult
) -> Drift:
    """Return one finding as a row of the report's annex."""
    rule = finding.rule
    leaf, outcome = detail.deciding or (None, None)
    cause = outcome.cause if outcome is not None else None
    line = result.cause_line(finding.service, leaf.name if leaf is not None else "", cause)
    return Drift(
        severity=rule.severity,
        rank=SEVERITIES.index(rule.severity),
        rule=rule.id,
        whose=whose,
        name=name,
        unit=unit,
        service=finding.service or "",
        actual=actual_text(detail),
        due=asked_text(leaf) if leaf is not None else "",
        place=" ".join(
            filter(
                None,
                (
                    scope_text(cause.scope or "", result.snapshot) if cause is not None else "",
                    f"({line})" if line else "",
                ),
            )
        ),
        areas=" ".join(sorted(areas_of(rule))),
    )
