"""A check as CSV, one finding a row."""

from __future__ import annotations

import csv
from collections.abc import Iterator
from typing import TextIO

from ...core.verdicts.codes import verdict_name
from ...core.verdicts.outcome import Tail
from ...core.verdicts.result import CheckResult, OtherFinding
from ..look import Look
from ..safe import for_spreadsheet

COLUMNS = (
    "rule",
    "severity",
    "subject_type",
    "subject",
    "login",
    "service",
    "verdict",
    "reason",
    "about",
    "actual",
    "expected",
    "scope",
    "value",
    "pinned",
    "exception",
    "would_be",
)
_PIECE = 20_000


def _rest(tail: Tail, service: str | None) -> list[str]:
    """The columns from `service` on; `about` to `pinned` speak of the leaf that decides."""
    leaf, outcome = tail.deciding or (None, None)
    cause = outcome.cause if outcome is not None else None
    cells = [
        service,
        verdict_name(tail.verdict),
        tail.reason,
        leaf.name if leaf else tail.root.control if tail.root else None,
        outcome.actual if outcome else None,
        leaf.expected if leaf else None,
        cause.scope if cause else None,
        cause.value if cause else None,
        None if cause is None else "true" if cause.pinned else "false",
        tail.exception,
        None if tail.would_be is None else verdict_name(tail.would_be),
    ]
    return [for_spreadsheet(cell or "") for cell in cells]


def _rows(result: CheckResult) -> Iterator[list[str]]:
    for finding in result.findings():
        head = [for_spreadsheet(finding.rule.id), finding.rule.severity]
        if isinstance(finding, OtherFinding):
            yield [
                *head,
                finding.subject[0],
                for_spreadsheet(finding.subject[1]),
                "",
                *_rest(finding.tail, finding.service),
            ]
            continue
        tails = [_rest(tail, finding.service) for tail in finding.tails]
        people = result.snapshot.people
        for start in range(0, len(finding.people), _PIECE):
            piece = finding.people[start : start + _PIECE]
            for name, login, which in zip(
                people.ids.take(piece),
                people.logins.take(piece),
                finding.tail[start : start + _PIECE].tolist(),
                strict=True,
            ):
                yield [*head, "person", for_spreadsheet(name), for_spreadsheet(login), *tails[which]]


def write_csv(result: CheckResult, stream: TextIO, _look: Look) -> None:
    """Writes one row for each finding, sorted by rule, service and subject (RFC 4180, but lines end with LF)."""
    writer = csv.writer(stream, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows(_rows(result))
