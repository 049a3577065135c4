"""The rows of findings for CSV, made in pieces. The columns are declared in results.check."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...core.organisation.columns import MISSING
from ...core.verdicts.codes import DRIFTS, verdict_name
from ...core.verdicts.outcome import VerdictDetail
from ...core.verdicts.result import CheckResult, OtherFinding
from ...core.verdicts.rules import Rule
from ...core.words.compare import shown
from ...core.words.plural import truth_word
from ..safe import for_spreadsheet

_PIECE = 20_000


class _Cells:
    """The cells of findings; what many share is made once."""

    def __init__(self, result: CheckResult) -> None:
        self._result, self._where = result, result.where
        self._mended = {row.root: row.remedy.mended_value for row in result.roots if row.remedy is not None}

    def rule(self, rule: Rule) -> tuple[list[str], list[str]]:
        """Return the first columns of a rule's findings, and the last."""
        maps = "; ".join(f"{framework}: {', '.join(names)}" for framework, names in rule.maps.items())
        last = [rule.mend, maps, self._result.snapshot.taken_text]
        return [for_spreadsheet(rule.id), rule.severity], [for_spreadsheet(cell) for cell in last]

    def detail(self, detail: VerdictDetail, service: str | None) -> tuple[list[str], list[str]]:
        """Return the columns from `service` to `would_be` (`about` to `pinned` speak of the leaf that decides), and
        `where` and `mended_value`.
        """
        leaf, outcome = detail.deciding or (None, None)
        cause = outcome.cause if outcome is not None else None
        by_root = detail.root.control if detail.root else None
        cells = [
            service,
            verdict_name(detail.verdict),
            detail.reason,
            leaf.name if leaf else by_root,
            shown(outcome.actual) if outcome and outcome.actual is not None else None,
            leaf.expected if leaf else None,
            cause.scope if cause else None,
            shown(cause.value) if cause and cause.value is not None else None,
            None if cause is None else truth_word(cause.pinned),
            detail.exception,
            None if detail.would_be is None else verdict_name(detail.would_be),
        ]
        where = self._result.cause_line(service, leaf.name if leaf is not None else "", cause)
        mended = self._mended.get(detail.root) if detail.root is not None and detail.verdict == DRIFTS else None
        more = [where, None if mended is None else shown(mended)]
        return [_cell(cell) for cell in cells], [_cell(cell) for cell in more]


def _cell(text: str | None) -> str:
    return "-" if text == "-" else for_spreadsheet(text or "")


def finding_rows(result: CheckResult) -> Iterator[list[str]]:
    """Yield one row for each finding, with people read in pieces so that memory stays bounded."""
    cells, people = _Cells(result), result.snapshot.people
    units = ["", *(people.unit.words if people.unit is not None else ())]
    for finding in result.findings():
        head, last = cells.rule(finding.rule)
        title = [for_spreadsheet(finding.rule.title)]
        if isinstance(finding, OtherFinding):
            middle, more = cells.detail(finding.detail, finding.service)
            kind, name = finding.subject
            whose = people.logins.take(np.array([finding.organiser]))[0] if finding.organiser != MISSING else ""
            who = [for_spreadsheet(cell) for cell in (name, whose)]
            yield [*head, kind, *who, *middle, *title, for_spreadsheet(finding.label), "", *more, *last]
            continue
        details = [cells.detail(detail, finding.service) for detail in finding.details]
        for start in range(0, len(finding.people), _PIECE):
            piece = finding.people[start : start + _PIECE]
            names = people.names.take(piece) if people.names is not None else [""] * len(piece)
            codes = people.unit.codes[piece].tolist() if people.unit is not None else [-1] * len(piece)
            for one, login, name, unit, which in zip(
                people.ids.take(piece),
                people.logins.take(piece),
                names,
                codes,
                finding.detail[start : start + _PIECE].tolist(),
                strict=True,
            ):
                middle, more = details[which]
                who = [for_spreadsheet(name), for_spreadsheet(units[unit + 1])]
                yield [
                    *head,
                    "person",
                    for_spreadsheet(one),
                    for_spreadsheet(login),
                    *middle,
                    *title,
                    *who,
                    *more,
                    *last,
                ]
